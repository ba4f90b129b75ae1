/** Long lists: only what is in view is drawn. */

/** Lists up to this are drawn whole. */
export const LONG = 400;

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

/** Where each row ends, from the heights of all. */
export function endsOf(heights: number[]): Float64Array {
  const ends = new Float64Array(heights.length);
  let at = 0;
  for (const [i, height] of heights.entries()) ends[i] = at += height;
  return ends;
}

/** The rows in view, from the first to the one after the last, with some more on either side. */
export function rowsInView(ends: Float64Array, view: View, more = 14): [number, number] {
  const firstPast = (y: number): number => {
    let [low, high] = [0, ends.length];
    while (low < high) {
      const middle = (low + high) >> 1;
      if (ends[middle]! <= y) low = middle + 1;
      else high = middle;
    }
    return low;
  };
  return [Math.max(0, firstPast(view.top) - more), Math.min(ends.length, firstPast(view.top + view.height) + 1 + more)];
}
