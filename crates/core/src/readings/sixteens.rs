//! A pyramid over a column: nodes of sixteen, of sixteen of those, and so on. Which node holds most of a range is the same whatever
//! it keeps.

use std::ops::Range;

/// So many are one a level up.
pub(super) const FACTOR: usize = 16;

/// The largest node that begins at the start of the range and ends within it: its level, 0 for the leaf itself, and the leaves
/// that it holds. `nodes` says how many nodes there are so many levels above the leaves, less one.
pub(super) fn largest_node(range: &Range<usize>, nodes: impl Fn(usize) -> usize) -> (usize, usize) {
    let (mut level, mut step) = (0, 1);
    while range.start.is_multiple_of(step * FACTOR)
        && range.start + step * FACTOR <= range.end
        && range.start / (step * FACTOR) < nodes(level)
    {
        step *= FACTOR;
        level += 1;
    }
    (level, step)
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn a_range_is_walked_in_the_largest_steps_that_fit() {
        // 16 × 16 × 16 + 40 leaves, with every node that is full.
        let nodes = |level| (4096 + 40) / FACTOR.pow(level as u32 + 1);
        let mut steps = Vec::new();
        let mut range = 15..4096 + 35;
        while range.start < range.end {
            let (_, step) = largest_node(&range, nodes);
            steps.push(step);
            range.start += step;
        }
        assert_eq!(steps.iter().sum::<usize>(), 4096 + 35 - 15);
        assert_eq!(steps.iter().filter(|s| **s == 256).count(), 15);
        assert_eq!(steps.len(), 1 + 15 + 15 + 2 + 3);
        assert_eq!(largest_node(&(0..5000), |_| 0), (0, 1), "nothing is summed up yet");
    }
}
