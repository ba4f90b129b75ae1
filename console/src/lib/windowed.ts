/** Long lists: only what is in view is drawn. */

/** Lists up to this are drawn whole. */
export const LONG = 400;
/** The board's rows have more in them. */
export const LONG_BOARD = 160;

/** How far a list is scrolled out of view at its top, and how high the view is. */
export interface View {
  top: number;
  height: number;
}

/** Tells how much of a node is in view of whatever scrolls it, now and whenever that changes. */
export function inView(node: Element, tell: (view: View) => void): { destroy: () => void } {
  let box = node.parentElement;
  while (box && !/(auto|scroll)/.test(getComputedStyle(box).overflowY)) box = box.parentElement;
  const within = box ?? document.documentElement;
  const look = (): void => tell({ top: Math.max(0, within.getBoundingClientRect().top - node.getBoundingClientRect().top), height: within.clientHeight });
  within.addEventListener('scroll', look, { passive: true });
  const sizes = new ResizeObserver(look);
  sizes.observe(within);
  look();
  return {
    destroy: () => {
      within.removeEventListener('scroll', look);
      sizes.disconnect();
    },
  };
}

/** The part of a list of sections that is drawn, and how high what is left out above and below it is. */
export interface Window {
  /** Section, and row in it; `null` for a section's head. */
  lines: [number, number | null][];
  above: number;
  below: number;
}

/** The lines in view of a list of sections, each a head and so many rows. Without a view it is drawn whole. */
export function windowOf(rows: number[], head: number, row: number, view: View | null, more = 8): Window {
  const lines: [number, number | null][] = [];
  const from = view ? view.top - more * row : -Infinity;
  const to = view ? view.top + view.height + more * row : Infinity;
  let [above, at] = [0, 0];
  for (const [section, n] of rows.entries()) {
    const end = at + head + n * row;
    if (end > from && at < to) {
      if (at + head > from) lines.push([section, null]);
      else above += head;
      const first = Math.min(n, Math.max(0, Math.floor((from - at - head) / row)));
      const last = Math.min(n, Math.max(first, Math.ceil((to - at - head) / row)));
      above += first * row;
      for (let i = first; i < last; i++) lines.push([section, i]);
    } else if (end <= from) above = end;
    at = end;
  }
  const shown = lines.reduce((sum, [, i]) => sum + (i === null ? head : row), 0);
  return { lines, above, below: Math.max(0, at - above - shown) };
}
