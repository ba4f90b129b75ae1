/** The dial's geometry: a ring cut into as many arcs as a ladder has rungs. */

/** An arc of a circle around (12, 12), from one angle to another, clockwise from the top. */
export function arc(r: number, from: number, to: number): string {
  const at = (a: number): string => `${(12 + r * Math.sin(a)).toFixed(2)} ${(12 - r * Math.cos(a)).toFixed(2)}`;
  return `M${at(from)}A${r} ${r} 0 ${to - from > Math.PI ? 1 : 0} 1 ${at(to)}`;
}

/** The arcs of a ladder, first rung at the top. */
export function arcs(rungs: number, r = 8.2): string[] {
  const n = Math.max(1, rungs);
  if (n === 1) return [arc(r, 0.001, 2 * Math.PI - 0.001)];
  const gap = Math.min(0.26, Math.PI / n);
  return Array.from({ length: n }, (_, i) => arc(r, (i * 2 * Math.PI) / n + gap / 2, ((i + 1) * 2 * Math.PI) / n - gap / 2));
}
