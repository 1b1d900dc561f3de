//! Where a noisy series changes its level: optimal partitioning with a robust cost, point by point.
//!
//! Functional pruning (FPOP: Maidstone, Hocking, Rigaill, Fearnhead 2017) with the biweight loss (Fearnhead and
//! Rigaill, "Changepoint detection in the presence of outliers", JASA 2019): the cost of the best partition is kept
//! as a function of the last level, piecewise quadratic. It is exact, and it is online: after each point the best
//! partition of what was seen is known, so a live record and the same record read later give the same answer.
//!
//! Cost: O(pieces) a point, a few dozen pieces as a rule. Our departure from the paper: the number of pieces is
//! bounded ([`MOST_PIECES`]); beyond it the worst pieces are dropped, which can only cost optimality, never order.

/// A residual beyond this many standard deviations costs no more than one at it, so that a single stall is no level.
pub const BIWEIGHT: f64 = 3.0;
const MOST_PIECES: usize = 300;

#[derive(Debug, Clone, Copy)]
struct Piece {
    /// Covers levels from here to the next piece's `from`.
    from: f64,
    a: f64,
    b: f64,
    c: f64,
    /// Index of the first point of the segment that this level would belong to.
    since: u32,
}

impl Piece {
    fn at(&self, level: f64) -> f64 {
        (self.a * level + self.b) * level + self.c
    }
    fn lowest(&self, to: f64) -> f64 {
        let best = if self.a > 0.0 { (-self.b / (2.0 * self.a)).clamp(self.from, to) } else { self.from };
        self.at(best)
    }
}

/// Online segmentation of a series whose values lie within the bounds given.
#[derive(Debug, Clone)]
pub struct Segmenter {
    pieces: Vec<Piece>,
    scratch: Vec<Piece>,
    lowest_level: f64,
    highest_level: f64,
    /// For each point: first point of the segment it belongs to in the best partition that ends at it.
    since: Vec<u32>,
}

impl Segmenter {
    /// For values within `lowest..highest`; values outside are clamped.
    #[must_use]
    pub fn new(lowest: f64, highest: f64) -> Self {
        let all = Piece { from: lowest, a: 0.0, b: 0.0, c: 0.0, since: 0 };
        Self {
            pieces: vec![all],
            scratch: Vec::new(),
            lowest_level: lowest,
            highest_level: highest,
            since: Vec::new(),
        }
    }

    /// Number of points seen.
    #[must_use]
    pub fn len(&self) -> usize {
        self.since.len()
    }

    /// True before the first point.
    #[must_use]
    pub fn is_empty(&self) -> bool {
        self.since.is_empty()
    }

    /// Takes the next point: its value, the standard deviation of its noise, what a change of level costs here, and beyond how many standard
    /// deviations a residual costs no more ([`BIWEIGHT`] of points that a stall may fill).
    pub fn push(&mut self, value: f64, sigma: f64, penalty: f64, reach: f64) {
        let n = self.since.len() as u32;
        let value = value.clamp(self.lowest_level, self.highest_level);
        let weight = 1.0 / (sigma * sigma);
        if n > 0 {
            self.cap(penalty, n);
        }
        self.add_loss(value, weight, reach);
        self.normalise(n);
    }

    /// Where the segments of the best partition begin, ascending; the first is 0. Empty before the first point.
    #[must_use]
    pub fn starts(&self) -> Vec<usize> {
        let mut starts = Vec::new();
        let mut end = self.since.len();
        while end > 0 {
            let start = self.since[end - 1] as usize;
            starts.push(start);
            end = start;
        }
        starts.reverse();
        starts
    }

    /// Levels that cost more than the best plus the penalty are better begun anew at point `n`.
    fn cap(&mut self, threshold: f64, n: u32) {
        self.scratch.clear();
        for i in 0..self.pieces.len() {
            let piece = self.pieces[i];
            let to = self.pieces.get(i + 1).map_or(self.highest_level, |p| p.from);
            let anew = |from: f64| Piece { from, a: 0.0, b: 0.0, c: threshold, since: n };
            if piece.a <= 0.0 {
                push_piece(&mut self.scratch, if piece.c > threshold { anew(piece.from) } else { piece });
                continue;
            }
            let middle = -piece.b / (2.0 * piece.a);
            let reach = (threshold - piece.at(middle)) / piece.a;
            if reach <= 0.0 {
                push_piece(&mut self.scratch, anew(piece.from));
                continue;
            }
            let (low, high) = (middle - reach.sqrt(), middle + reach.sqrt());
            if low > piece.from {
                push_piece(&mut self.scratch, anew(piece.from));
            }
            if low < to && high > piece.from {
                push_piece(&mut self.scratch, Piece { from: piece.from.max(low), ..piece });
            }
            if high < to {
                push_piece(&mut self.scratch, anew(piece.from.max(high)));
            }
        }
        std::mem::swap(&mut self.pieces, &mut self.scratch);
    }

    fn add_loss(&mut self, value: f64, weight: f64, sigmas: f64) {
        let reach = sigmas / weight.sqrt();
        let (low, high) = (value - reach, value + reach);
        let most = sigmas * sigmas;
        self.scratch.clear();
        for i in 0..self.pieces.len() {
            let piece = self.pieces[i];
            let to = self.pieces.get(i + 1).map_or(self.highest_level, |p| p.from);
            let far = |from: f64| Piece { from, c: piece.c + most, ..piece };
            let near = |from: f64| Piece {
                from,
                a: piece.a + weight,
                b: piece.b - 2.0 * weight * value,
                c: piece.c + weight * value * value,
                since: piece.since,
            };
            if piece.from < low {
                push_piece(&mut self.scratch, far(piece.from));
            }
            if low < to && high > piece.from {
                push_piece(&mut self.scratch, near(piece.from.max(low)));
            }
            if high < to {
                push_piece(&mut self.scratch, far(piece.from.max(high)));
            }
        }
        std::mem::swap(&mut self.pieces, &mut self.scratch);
    }

    /// Takes the lowest cost off all pieces, so that numbers stay small, and notes whose it was.
    fn normalise(&mut self, n: u32) {
        let mut best = (f64::INFINITY, n);
        for i in 0..self.pieces.len() {
            let to = self.pieces.get(i + 1).map_or(self.highest_level, |p| p.from);
            let cost = self.pieces[i].lowest(to);
            if cost < best.0 {
                best = (cost, self.pieces[i].since);
            }
        }
        for piece in &mut self.pieces {
            piece.c -= best.0;
        }
        self.since.push(best.1);
        if self.pieces.len() > MOST_PIECES {
            self.thin();
        }
    }

    fn thin(&mut self) {
        let ends: Vec<f64> = self.pieces.iter().skip(1).map(|p| p.from).chain([self.highest_level]).collect();
        let costs: Vec<f64> = self.pieces.iter().zip(&ends).map(|(p, to)| p.lowest(*to)).collect();
        let mut sorted = costs.clone();
        sorted.sort_by(f64::total_cmp);
        let limit = sorted[MOST_PIECES / 2];
        let mut keep = costs.iter().map(|c| *c <= limit);
        self.pieces.retain(|_| keep.next().unwrap_or(true));
        if let Some(first) = self.pieces.first_mut() {
            first.from = self.lowest_level;
        }
    }
}

fn push_piece(pieces: &mut Vec<Piece>, piece: Piece) {
    if let Some(last) = pieces.last_mut() {
        if last.from >= piece.from {
            *last = piece;
            return;
        }
        if last.a == piece.a && last.b == piece.b && last.c == piece.c && last.since == piece.since {
            return;
        }
    }
    pieces.push(piece);
}

#[cfg(test)]
mod tests {
    use super::*;
    use proptest::prelude::*;

    /// Optimal partitioning by trying every last change, with the level of a segment found on a fine grid.
    fn by_force(values: &[f64], sigma: f64, penalty: f64) -> f64 {
        let grid: Vec<f64> = (0..=2000).map(|i| f64::from(i) * 0.01).collect();
        let loss = |v: f64, level: f64| ((v - level) / sigma).powi(2).min(BIWEIGHT * BIWEIGHT);
        let cost = |from: usize, to: usize| {
            grid.iter()
                .map(|level| values[from..to].iter().map(|v| loss(*v, *level)).sum::<f64>())
                .fold(f64::INFINITY, f64::min)
        };
        let mut best = vec![-penalty];
        for to in 1..=values.len() {
            let b = (0..to).map(|from| best[from] + penalty + cost(from, to)).fold(f64::INFINITY, f64::min);
            best.push(b);
        }
        best[values.len()]
    }

    fn cost_of(values: &[f64], starts: &[usize], sigma: f64, penalty: f64) -> f64 {
        let mut total = -penalty;
        for (i, from) in starts.iter().enumerate() {
            let to = starts.get(i + 1).copied().unwrap_or(values.len());
            total += penalty
                + (0..=2000)
                    .map(|g| f64::from(g) * 0.01)
                    .map(|level| {
                        values[*from..to]
                            .iter()
                            .map(|v| ((v - level) / sigma).powi(2).min(BIWEIGHT * BIWEIGHT))
                            .sum::<f64>()
                    })
                    .fold(f64::INFINITY, f64::min);
        }
        total
    }

    proptest! {
        #![proptest_config(ProptestConfig::with_cases(40))]
        #[test]
        fn the_partition_costs_what_the_best_one_costs(
            values in proptest::collection::vec(0.0f64..20.0, 1..25), penalty in 2.0f64..30.0
        ) {
            let mut s = Segmenter::new(0.0, 20.0);
            values.iter().for_each(|v| s.push(*v, 1.0, penalty, BIWEIGHT));
            let found = cost_of(&values, &s.starts(), 1.0, penalty);
            let best = by_force(&values, 1.0, penalty);
            prop_assert!(found <= best + 0.05, "found {found}, best {best}");
        }
    }

    #[test]
    fn a_step_is_found_to_the_point_and_a_stall_is_not_a_level() {
        let mut s = Segmenter::new(0.0, 20.0);
        for i in 0..400 {
            let wobble = if i % 2 == 0 { 0.5 } else { -0.5 };
            let level = if i < 250 { 12.0 } else { 8.0 };
            s.push(if i == 100 || i == 101 { 0.0 } else { level + wobble }, 1.0, 25.0, BIWEIGHT);
        }
        assert_eq!(s.starts(), [0, 250]);
    }
}
