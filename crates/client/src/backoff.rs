use std::time::Duration;

/// How patiently a request is repeated (RFC 5080 section 2.2.1).
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub struct Patience {
    /// How long the first try waits (IRT); each further one waits about twice as long.
    pub first: Duration,
    /// The longest wait (MRT).
    pub longest: Duration,
    /// How often the request is sent to one server (MRC).
    pub tries: u32,
}

impl Default for Patience {
    fn default() -> Self {
        Self { first: Duration::from_secs(2), longest: Duration::from_secs(16), tries: 3 }
    }
}

impl Patience {
    /// The next wait, after one of `before`; none before the first. `random` spreads it
    /// by a tenth, so that many clients do not repeat in step.
    pub(crate) fn wait(&self, before: Option<Duration>, random: u16) -> Duration {
        // RAND is between -0.1 and 0.1.
        let spread = (f64::from(random) / f64::from(u16::MAX) - 0.5) / 5.0;
        let wait = match before {
            None => self.first.mul_f64(1.0 + spread),
            Some(before) => before.mul_f64(2.0 + spread),
        };
        if wait > self.longest { self.longest.mul_f64(1.0 + spread) } else { wait }
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn waits_double_up_to_the_longest_and_differ_a_little() {
        let patience = Patience { first: Duration::from_secs(2), longest: Duration::from_secs(5), tries: 5 };
        for random in [0, 1, 30_000, u16::MAX] {
            let near = |wait: Duration, seconds: f64| (wait.as_secs_f64() / seconds - 1.0).abs() <= 0.101;
            let first = patience.wait(None, random);
            assert!(near(first, 2.0), "{first:?}");
            let second = patience.wait(Some(Duration::from_secs(2)), random);
            assert!(near(second, 4.0), "{second:?}");
            assert!(near(patience.wait(Some(Duration::from_secs(4)), random), 5.0));
        }
        assert_ne!(patience.wait(None, 0), patience.wait(None, u16::MAX));
    }
}
