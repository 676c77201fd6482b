//! Two texts made from one, as one text again, line by line.

use std::collections::VecDeque;
use std::ops::Range;
use std::time::{Duration, Instant};

use similar::{Algorithm, DiffOp, capture_diff_slices_deadline};

/// How long lines of two texts are compared; what is not found the same by then counts as changed.
const LIMIT: Duration = Duration::from_millis(300);

/// What both changed of one place, each in its own way.
#[derive(Clone, Debug, PartialEq, Eq)]
pub(crate) struct Disputed {
    /// The line of the merged text where it begins, from 1.
    pub(crate) line: usize,
    /// What theirs says there.
    pub(crate) theirs: String,
    /// Whether both only added something there, so that both are kept, theirs first; else mine alone is.
    pub(crate) both: bool,
}

/// What either changed, in one text; where both changed the same lines otherwise, mine is kept, and theirs is told.
pub(crate) fn merge(base: &str, mine: &str, theirs: &str) -> (String, Vec<Disputed>) {
    let lines = |text: &'_ str| -> Vec<String> { text.split_inclusive('\n').map(str::to_owned).collect() };
    let (base, mine, theirs) = (lines(base), lines(mine), lines(theirs));
    let mut sides = [hunks(&base, &mine), hunks(&base, &theirs)];
    let (mut merged, mut disputed, mut at) = (Vec::new(), Vec::new(), 0);
    let first = |sides: &[VecDeque<Hunk>; 2]| {
        let fronts = sides.iter().filter_map(|side| side.front().map(|hunk| hunk.base.clone()));
        fronts.min_by_key(|range| range.start)
    };
    while let Some(mut region) = first(&sides) {
        merged.extend_from_slice(&base[at..region.start]);
        let mut taken = [Vec::new(), Vec::new()];
        // What touches belongs together, on both sides.
        while let Some(which) =
            (0..2).find(|which| sides[*which].front().is_some_and(|hunk| touches(&hunk.base, &region)))
        {
            let hunk = sides[which].pop_front();
            region.end = region.end.max(hunk.as_ref().map_or(0, |hunk| hunk.base.end));
            taken[which].extend(hunk);
        }
        let own = made(&base, &region, &taken[0], &mine);
        let other = made(&base, &region, &taken[1], &theirs);
        match (taken[0].is_empty(), taken[1].is_empty()) {
            (true, _) => merged.extend(other),
            (_, true) => merged.extend(own),
            _ => {
                let (same, both) = (own == other, region.is_empty());
                if !same {
                    disputed.push(Disputed { line: merged.len() + 1, theirs: other.concat(), both });
                }
                if both && !same {
                    // A last line may have no end.
                    let whole = other.last().is_none_or(|line| line.ends_with('\n'));
                    merged.extend(other);
                    merged.extend((!whole).then(|| "\n".to_owned()));
                }
                merged.extend(own);
            }
        }
        at = region.end;
    }
    merged.extend_from_slice(&base[at..]);
    (merged.concat(), disputed)
}

/// Lines of the base, and those that stand in their place.
struct Hunk {
    base: Range<usize>,
    new: Range<usize>,
}

fn hunks(base: &[String], text: &[String]) -> VecDeque<Hunk> {
    let ops = capture_diff_slices_deadline(Algorithm::Myers, base, text, Some(Instant::now() + LIMIT));
    let changed = ops.into_iter().filter(|op| !matches!(op, DiffOp::Equal { .. }));
    changed.map(|op| Hunk { base: op.old_range(), new: op.new_range() }).collect()
}

fn touches(one: &Range<usize>, other: &Range<usize>) -> bool {
    one.start <= other.end && other.start <= one.end
}

/// What one side made of some lines of the base.
fn made(base: &[String], region: &Range<usize>, hunks: &[Hunk], lines: &[String]) -> Vec<String> {
    let (mut text, mut from) = (Vec::new(), region.start);
    for hunk in hunks {
        text.extend_from_slice(&base[from..hunk.base.start]);
        text.extend_from_slice(&lines[hunk.new.clone()]);
        from = hunk.base.end;
    }
    text.extend_from_slice(&base[from..region.end]);
    text
}

#[cfg(test)]
mod tests {
    use super::*;
    use proptest::prelude::*;

    #[test]
    fn what_either_changed_is_there_and_what_both_did_is_told() {
        let base = "1\n2\n3\n4\n5\n6\n7\n8\n9\n";
        let mine = base.replace("2\n", "two\n").replace("8\n", "acht\n");
        let theirs = base.replace("5\n", "5\n5a\n").replace("8\n", "huit\n");
        let (text, disputed) = merge(base, &mine, &theirs);
        assert_eq!(text, "1\ntwo\n3\n4\n5\n5a\n6\n7\nacht\n9\n");
        assert_eq!(disputed, [Disputed { line: 9, theirs: "huit\n".into(), both: false }]);
        // Two that add something at one place keep both.
        let (text, disputed) = merge("1\n2\n", "1\na\n2\n", "1\nb\n2\n");
        assert_eq!(
            (text.as_str(), disputed),
            ("1\nb\na\n2\n", vec![Disputed { line: 2, theirs: "b\n".into(), both: true }])
        );
        assert_eq!(merge("", "a", "b").0, "b\na");
        // The same on both sides is no dispute; a last line needs no end.
        assert_eq!(merge("a", "b", "b"), ("b".into(), vec![]));
        assert_eq!(merge("a\nb", "a\nb\nc", "z\na\nb"), ("z\na\nb\nc".into(), vec![]));
    }

    fn text() -> impl Strategy<Value = String> {
        prop::collection::vec(prop::sample::select(vec!["a\n", "b\n", "c\n", "d\n", "e"]), 0..12)
            .prop_map(|lines| lines.concat())
    }

    proptest! {
        #[test]
        fn where_one_side_changed_nothing_the_other_is_taken(base in text(), other in text()) {
            prop_assert_eq!(merge(&base, &other, &base), (other.clone(), vec![]));
            prop_assert_eq!(merge(&base, &base, &other), (other.clone(), vec![]));
            prop_assert_eq!(merge(&base, &other, &other), (other, vec![]));
        }

        /// Without a dispute it makes no difference whose text is whose.
        #[test]
        fn what_is_not_disputed_is_the_same_from_both_sides(base in text(), mine in text(), theirs in text()) {
            let (one, disputed) = merge(&base, &mine, &theirs);
            let (other, again) = merge(&base, &theirs, &mine);
            prop_assert_eq!(disputed.len(), again.len());
            if disputed.is_empty() {
                prop_assert_eq!(one, other);
            }
        }
    }
}
