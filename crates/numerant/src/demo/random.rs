//! Numbers that look random and are the same each time.

/// SplitMix64 (Steele, Lea and Flood, 2014).
#[derive(Debug)]
pub(super) struct Random(u64);

impl Random {
    pub(super) fn new(seed: u64) -> Self {
        Self(seed)
    }

    fn next(&mut self) -> u64 {
        self.0 = self.0.wrapping_add(0x9e37_79b9_7f4a_7c15);
        let mut mixed = self.0;
        mixed = (mixed ^ (mixed >> 30)).wrapping_mul(0xbf58_476d_1ce4_e5b9);
        mixed = (mixed ^ (mixed >> 27)).wrapping_mul(0x94d0_49bb_1331_11eb);
        mixed ^ (mixed >> 31)
    }

    /// A number below `end`.
    pub(super) fn below(&mut self, end: u64) -> u64 {
        ((u128::from(self.next()) * u128::from(end)) >> 64) as u64
    }

    /// Whether something happens that happens `times` in a thousand.
    pub(super) fn chance(&mut self, times: u64) -> bool {
        self.below(1000) < times
    }

    /// One of them.
    pub(super) fn pick<'a, T>(&mut self, items: &'a [T]) -> &'a T {
        &items[self.below(items.len() as u64) as usize]
    }

    /// One of them, by weight.
    pub(super) fn weighted<'a, T>(&mut self, items: &'a [(T, u64)]) -> &'a T {
        let total = items.iter().map(|(_, weight)| weight).sum();
        let mut left = self.below(total);
        for (item, weight) in items {
            if left < *weight {
                return item;
            }
            left -= weight;
        }
        &items[0].0
    }

    /// Puts them in another order.
    pub(super) fn shuffle<T>(&mut self, items: &mut [T]) {
        for place in (1..items.len()).rev() {
            items.swap(place, self.below(place as u64 + 1) as usize);
        }
    }
}
