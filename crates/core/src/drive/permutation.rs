//! An order in which every block of a region comes exactly once, computed and not stored.
//!
//! A counter runs through a power of two; each value goes through rounds of multiplication by an odd number and a shift
//! with exclusive or. Every step of a round can be undone, so the whole is one to one; values past the end are skipped,
//! which at worst is every second one.

/// A full-period order of `0..blocks`.
#[derive(Debug, Clone)]
pub struct Permutation {
    blocks: u64,
    mask: u64,
    shift: u32,
    keys: [u64; 3],
    counter: u64,
}

/// The `n`-th number of SplitMix64 (Steele, Lea, Flood 2014) from a seed.
#[must_use]
pub const fn spread(seed: u64, n: u64) -> u64 {
    let mut z = seed.wrapping_add(n.wrapping_mul(0x9e37_79b9_7f4a_7c15));
    z = (z ^ (z >> 30)).wrapping_mul(0xbf58_476d_1ce4_e5b9);
    z = (z ^ (z >> 27)).wrapping_mul(0x94d0_49bb_1331_11eb);
    z ^ (z >> 31)
}

impl Permutation {
    /// Of so many blocks, at least one; another seed gives another order.
    #[must_use]
    pub const fn new(blocks: u64, seed: u64) -> Self {
        let blocks = if blocks == 0 { 1 } else { blocks };
        let bits = u64::BITS - (blocks - 1).leading_zeros();
        let mask = if bits == 64 { u64::MAX } else { (1 << bits) - 1 };
        let shift = if bits < 2 { 1 } else { bits.div_ceil(2) };
        Self { blocks, mask, shift, keys: [spread(seed, 1), spread(seed, 2), spread(seed, 3)], counter: 0 }
    }

    const fn mix(&self, counter: u64) -> u64 {
        let mut x = counter;
        let mut round = 0;
        while round < 3 {
            // Odd multipliers have an inverse modulo a power of two; x ^ x >> s can be undone for any s of 1 or more.
            x = x.wrapping_mul(self.keys[round] | 1).wrapping_add(self.keys[round] >> 32) & self.mask;
            x ^= x >> self.shift;
            round += 1;
        }
        x
    }

    /// The next block; after all of them it begins again.
    #[allow(clippy::should_implement_trait, reason = "it never ends")]
    pub const fn next(&mut self) -> u64 {
        loop {
            let x = self.mix(self.counter);
            self.counter = self.counter.wrapping_add(1) & self.mask;
            if x < self.blocks {
                return x;
            }
        }
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use proptest::prelude::*;

    proptest! {
        #[test]
        fn every_block_comes_once_a_round(blocks in 1u64..3000, seed in any::<u64>()) {
            let mut order = Permutation::new(blocks, seed);
            for _ in 0..2 {
                let mut seen = vec![false; blocks as usize];
                for _ in 0..blocks {
                    let b = order.next() as usize;
                    prop_assert!(!seen[b], "block {b} twice");
                    seen[b] = true;
                }
            }
        }
    }

    #[test]
    fn the_order_is_spread_out() {
        let n = 1u64 << 20;
        let mut order = Permutation::new(n, 7);
        let first: Vec<u64> = (0..4096).map(|_| order.next()).collect();
        let neighbours = first.windows(2).filter(|w| w[0].abs_diff(w[1]) < n / 1000).count();
        assert!(neighbours < 40, "{neighbours} of 4,095 steps were short; chance gives about 8");
        let low = first.iter().filter(|b| **b < n / 2).count();
        assert!((1850..2250).contains(&low), "{low} of 4,096 in the lower half");
        assert_eq!(Permutation::new(1, 3).next(), 0);
        assert!(Permutation::new(u64::MAX, 3).next() < u64::MAX);
    }
}
