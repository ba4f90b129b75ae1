//! How a graph of steps is drawn and how long it takes: ranks, tails, the critical path.

use crate::plan::{Step, StepId};

/// Works out rank, tail and critical path of steps anew from their waits and usual times, and says how long
/// they take in all. Steps wait only on steps before them; the first has the number `first`.
pub fn lay_out(steps: &mut [Step], first: u32) -> u64 {
    let at = |id: StepId| (id.0.checked_sub(first)).map(|i| i as usize);
    let n = steps.len();
    let mut begins = vec![0u64; n];
    for v in 0..n {
        let (mut rank, mut begin) = (0, 0);
        // What was there before these steps is over when they begin.
        for w in steps[v].waits.iter().filter_map(|w| at(w.step)) {
            debug_assert!(w < v, "a step waits on one before it");
            rank = rank.max(steps[w].rank + 1);
            begin = begin.max(begins[w] + steps[w].usual_ms);
        }
        steps[v].rank = rank;
        begins[v] = begin;
    }
    let mut reaches = vec![0u64; n];
    for v in (0..n).rev() {
        steps[v].tail_ms = steps[v].usual_ms + reaches[v];
        for w in steps[v].waits.iter().filter_map(|w| at(w.step)) {
            reaches[w] = reaches[w].max(steps[v].tail_ms);
        }
    }
    let length = steps.iter().map(|s| s.tail_ms).max().unwrap_or(0);
    for v in 0..n {
        steps[v].critical = length > 0 && begins[v] + steps[v].tail_ms == length;
    }
    length
}
