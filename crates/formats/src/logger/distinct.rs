//! How many distinct times a file holds, in little memory: regular runs are kept as runs.

/// Times `start`, `start + step`, …
#[derive(Debug, Clone, Copy)]
struct Run {
    of: u32,
    start: i64,
    step: i64,
    n: i64,
}

impl Run {
    const fn last(&self) -> i64 {
        self.start + self.step * (self.n - 1)
    }

    fn low(&self) -> i64 {
        self.start.min(self.last())
    }

    fn high(&self) -> i64 {
        self.start.max(self.last())
    }
}

/// Distinct pairs of a group and a time.
#[derive(Debug, Clone, Default)]
pub(super) struct Distinct {
    runs: Vec<Run>,
}

impl Distinct {
    pub fn add(&mut self, of: u32, time: i64) {
        match self.runs.last_mut() {
            Some(run) if run.of == of && run.n > 1 && time == run.last() + run.step => run.n += 1,
            Some(run) if run.of == of && run.n == 1 && time != run.start => (run.step, run.n) = (time - run.start, 2),
            Some(run) if run.of == of && run.n == 1 => {}
            Some(run) if run.of == of && time == run.last() => {}
            _ => self.runs.push(Run { of, start: time, step: 0, n: 1 }),
        }
    }

    pub fn count(mut self, wanted: impl Fn(u32) -> bool) -> usize {
        self.runs.retain(|r| wanted(r.of));
        self.runs.sort_unstable_by_key(|r| (r.of, r.low()));
        let (mut total, mut from) = (0, 0);
        while from < self.runs.len() {
            // Runs that lie over one another are counted time by time, the others by their length.
            let (of, mut high, mut to) = (self.runs[from].of, self.runs[from].high(), from + 1);
            while to < self.runs.len() && self.runs[to].of == of && self.runs[to].low() <= high {
                high = high.max(self.runs[to].high());
                to += 1;
            }
            total += if to == from + 1 {
                self.runs[from].n as usize
            } else {
                let times = self.runs[from..to].iter().flat_map(|r| (0..r.n).map(|i| r.start + i * r.step));
                let mut times: Vec<i64> = times.collect();
                times.sort_unstable();
                times.dedup();
                times.len()
            };
            from = to;
        }
        total
    }
}

impl FromIterator<(u32, i64)> for Distinct {
    fn from_iter<I: IntoIterator<Item = (u32, i64)>>(times: I) -> Self {
        let mut out = Self::default();
        times.into_iter().for_each(|(of, t)| out.add(of, t));
        out
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use proptest::prelude::*;
    use std::collections::BTreeSet;

    proptest! {
        #[test]
        fn runs_count_what_a_set_would(times in prop::collection::vec((0..3_u32, 0..40_i64), 0..200)) {
            prop_assert_eq!(times.iter().copied().collect::<Distinct>().count(|_| true), times.iter().collect::<BTreeSet<_>>().len());
        }
    }

    #[test]
    fn a_regular_record_is_one_run() {
        let regular: Distinct = (0..100_000).map(|i| (0, i * 900)).collect();
        assert_eq!(regular.runs.len(), 1);
        let twice: Distinct = (0..1000).chain(500..1000).map(|i| (0, i * 900)).collect();
        assert_eq!(twice.count(|_| true), 1000);
    }
}
