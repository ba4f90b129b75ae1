/** The map's layout: left to right, what is relied on to the left. */
import dagre from '@dagrejs/dagre';

import type { BoardRow } from './api';

export interface Placed {
  nodes: { address: string; x: number; y: number }[];
  edges: { from: string; to: string; d: string }[];
  width: number;
  height: number;
}

export const NODE = { width: 214, height: 40 };

export function place(rows: BoardRow[]): Placed {
  const graph = new dagre.graphlib.Graph();
  graph.setGraph({ rankdir: 'LR', nodesep: 10, ranksep: 62, marginx: 8, marginy: 8 });
  graph.setDefaultEdgeLabel(() => ({}));
  const known = new Set(rows.map((r) => r.address));
  for (const row of rows) graph.setNode(row.address, { ...NODE });
  for (const row of rows) {
    for (const needed of row.relies_on) if (known.has(needed)) graph.setEdge(needed, row.address);
  }
  dagre.layout(graph);
  const size = graph.graph();
  return {
    nodes: rows.map((r) => ({ address: r.address, x: graph.node(r.address).x, y: graph.node(r.address).y })),
    edges: graph.edges().map((e) => {
      const points = graph.edge(e).points;
      const [first, ...rest] = points;
      const d = first ? `M${first.x} ${first.y}` + rest.map((p) => `L${p.x} ${p.y}`).join('') : '';
      return { from: e.v, to: e.w, d };
    }),
    width: size.width ?? 0,
    height: size.height ?? 0,
  };
}

/** Everything reached from a service along relations. */
export function reached(rows: BoardRow[], from: string, way: 'needed' | 'reliant'): Set<string> {
  const next = new Map<string, string[]>();
  for (const row of rows) {
    for (const needed of row.relies_on) {
      const [a, b] = way === 'needed' ? [row.address, needed] : [needed, row.address];
      next.set(a, [...(next.get(a) ?? []), b]);
    }
  }
  const seen = new Set<string>();
  const queue = [from];
  for (let at = queue.pop(); at !== undefined; at = queue.pop()) {
    for (const other of next.get(at) ?? []) {
      if (!seen.has(other)) {
        seen.add(other);
        queue.push(other);
      }
    }
  }
  return seen;
}
