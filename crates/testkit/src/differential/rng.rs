//! Chance that can be repeated: the same seed draws the same cases on every machine.

/// SplitMix64: small, and good enough to draw cases.
#[derive(Clone)]
pub struct Rng(u64);

impl Rng {
    /// One stream for each case, so that a case can be drawn again alone.
    pub fn of(seed: u64, case: u64) -> Rng {
        let mut rng = Rng(seed.wrapping_mul(0x9e37_79b9_7f4a_7c15) ^ case.wrapping_mul(0xd134_2543_de82_ef95));
        rng.draw();
        rng
    }

    /// 64 bits.
    pub fn draw(&mut self) -> u64 {
        self.0 = self.0.wrapping_add(0x9e37_79b9_7f4a_7c15);
        let z = (self.0 ^ (self.0 >> 30)).wrapping_mul(0xbf58_476d_1ce4_e5b9);
        let z = (z ^ (z >> 27)).wrapping_mul(0x94d0_49bb_1331_11eb);
        z ^ (z >> 31)
    }

    /// A number below `n`.
    pub fn below(&mut self, n: usize) -> usize {
        usize::try_from(self.draw() % n as u64).unwrap()
    }

    /// True so many times of a hundred.
    pub fn percent(&mut self, n: usize) -> bool {
        self.below(100) < n
    }

    /// One of these.
    pub fn of_these<T: Clone>(&mut self, these: &[T]) -> T {
        these[self.below(these.len())].clone()
    }

    /// So many octets.
    pub fn octets(&mut self, n: usize) -> Vec<u8> {
        (0..n).map(|_| self.draw().to_be_bytes()[0]).collect()
    }
}
