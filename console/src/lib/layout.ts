/** The map's layout: left to right, what is relied on to the left. */
import dagre from '@dagrejs/dagre';

import type { BoardRow } from './api';

export interface Placed {
  nodes: { address: string; x: number; y: number }[];
  edges: { from: string; to: string; d: string }[];
  width: number;
  height: number;
}

export const NODE = { width: 186, height: 44 };

export function place(rows: BoardRow[]): Placed {
  const graph = new dagre.graphlib.Graph();
  graph.setGraph({ rankdir: 'LR', nodesep: 12, ranksep: 26, marginx: 8, marginy: 8 });
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
      // From the right side of what is relied on to the left side of what relies on it, through the bends between.
      const [from, to] = [graph.node(e.v), graph.node(e.w)];
      const points = [{ x: from.x + NODE.width / 2, y: from.y }, ...graph.edge(e).points.slice(1, -1), { x: to.x - NODE.width / 2, y: to.y }];
      return { from: e.v, to: e.w, d: curve(points.filter((p) => p.x >= from.x + NODE.width / 2 && p.x <= to.x - NODE.width / 2)) };
    }),
    width: size.width ?? 0,
    height: size.height ?? 0,
  };
}

/** A smooth line through points that go from left to right. */
function curve(points: { x: number; y: number }[]): string {
  let d = '';
  for (const [i, p] of points.entries()) {
    const before = points[i - 1];
    if (!before) d = `M${p.x} ${p.y}`;
    else {
      const middle = (before.x + p.x) / 2;
      d += `C${middle} ${before.y} ${middle} ${p.y} ${p.x} ${p.y}`;
    }
  }
  return d;
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
