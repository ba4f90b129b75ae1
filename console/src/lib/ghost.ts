/** The score of a rehearsal: from its plan and forecast to lanes of bars. Pure. */
import type { Rehearsal } from './api';

export interface Bar {
  step: number;
  says: string;
  kind: string;
  /** Milliseconds from the begin. */
  from: number;
  to: number;
  /** When it has ended in nine of ten plays. */
  late: number;
  critical: boolean;
}

export interface GhostLane {
  name: string;
  isService: boolean;
  bars: Bar[];
  steps: number[];
}

/** Lanes in the order in which they are first needed. */
export function ghosts(rehearsal: Rehearsal): { lanes: GhostLane[]; to: number } {
  const lanes = new Map<string, GhostLane>();
  const steps = rehearsal.plan.sequence.steps;
  for (const [i, step] of steps.entries()) {
    const times = rehearsal.forecast.steps[i];
    if (!times) continue;
    const says = step.settings?.title ?? (step.task?.kind === 'announce' ? step.task.says : step.kind.replaceAll('-', ' '));
    const name = step.address ?? says;
    const lane: GhostLane = lanes.get(name) ?? { name, isService: !!step.address, bars: [], steps: [] };
    lanes.set(name, lane);
    lane.steps.push(step.id);
    // On the critical path in most plays: what the run's length hangs on.
    lane.bars.push({ step: step.id, says, kind: step.kind, from: times.begins_ms, to: times.ends_ms, late: times.late_ms, critical: times.critical >= 50 });
  }
  return { lanes: [...lanes.values()], to: Math.max(rehearsal.forecast.late_ms, 1000) };
}
