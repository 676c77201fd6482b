/// A set of whole numbers from 0 to a last one, as ranges: in order, apart from one another, none touching
/// the next.
#[derive(Clone, Debug, PartialEq, Eq, Hash)]
pub struct Numbers {
    ranges: Vec<(u128, u128)>,
    last: u128,
}

impl Numbers {
    /// Every number in one of these ranges, first and last included; one that ends before it begins is empty.
    pub fn new(ranges: impl IntoIterator<Item = (u128, u128)>, last: u128) -> Self {
        let within = |(from, to): (u128, u128)| (from, to.min(last));
        let mut all: Vec<_> = ranges.into_iter().map(within).filter(|(from, to)| from <= to).collect();
        all.sort_unstable();
        let mut ranges: Vec<(u128, u128)> = Vec::with_capacity(all.len());
        for (from, to) in all {
            match ranges.last_mut() {
                Some(before) if from <= before.1.saturating_add(1) => before.1 = before.1.max(to),
                _ => ranges.push((from, to)),
            }
        }
        Self { ranges, last }
    }

    /// The ranges, first and last included, in order.
    pub fn ranges(&self) -> &[(u128, u128)] {
        &self.ranges
    }

    /// Whether it holds a number.
    pub fn has(&self, number: u128) -> bool {
        let after = self.ranges.partition_point(|(from, _)| *from <= number);
        after.checked_sub(1).is_some_and(|place| number <= self.ranges[place].1)
    }

    /// Whether it holds none.
    pub fn is_empty(&self) -> bool {
        self.ranges.is_empty()
    }

    /// What it does not hold.
    #[must_use]
    pub fn outside(&self) -> Self {
        let mut ranges = Vec::with_capacity(self.ranges.len() + 1);
        let mut next = Some(0);
        for (from, to) in &self.ranges {
            if let Some(free) = next.filter(|free| free < from) {
                ranges.push((free, from - 1));
            }
            next = to.checked_add(1).filter(|free| *free <= self.last);
        }
        ranges.extend(next.map(|free| (free, self.last)));
        Self { ranges, last: self.last }
    }

    /// What both hold.
    #[must_use]
    pub fn and(&self, other: &Self) -> Self {
        let (mut ranges, mut mine, mut theirs) = (Vec::new(), 0, 0);
        while let (Some(a), Some(b)) = (self.ranges.get(mine), other.ranges.get(theirs)) {
            let common = (a.0.max(b.0), a.1.min(b.1));
            if common.0 <= common.1 {
                ranges.push(common);
            }
            // Whichever ends first meets nothing further.
            if a.1 <= b.1 { mine += 1 } else { theirs += 1 }
        }
        Self { ranges, last: self.last.min(other.last) }
    }
}
