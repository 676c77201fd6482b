/// Words longer than this are no slips.
const LONGEST: usize = 64;

/// The known word that somebody who wrote `word` most likely meant.
pub fn did_you_mean<'k>(word: &str, known: impl IntoIterator<Item = &'k str>) -> Option<&'k str> {
    let length = word.chars().count();
    // Nobody mistypes a name of a page; the comparison takes the product of both lengths.
    if length > LONGEST {
        return None;
    }
    let limit = (length / 3).max(1);
    known
        .into_iter()
        .map(|candidate| (distance(&word.to_lowercase(), &candidate.to_lowercase()), candidate))
        .filter(|(distance, _)| *distance <= limit)
        .min()
        .map(|(_, candidate)| candidate)
}

/// Insertions, deletions, replacements and swaps of neighbours from `a` to `b`.
fn distance(a: &str, b: &str) -> usize {
    let (a, b): (Vec<char>, Vec<char>) = (a.chars().collect(), b.chars().collect());
    let mut rows = vec![(0..=b.len()).collect::<Vec<_>>()];
    for i in 1..=a.len() {
        let mut row = vec![i];
        for j in 1..=b.len() {
            let replace = rows[i - 1][j - 1] + usize::from(a[i - 1] != b[j - 1]);
            let mut best = replace.min(rows[i - 1][j] + 1).min(row[j - 1] + 1);
            if i > 1 && j > 1 && a[i - 1] == b[j - 2] && a[i - 2] == b[j - 1] {
                best = best.min(rows[i - 2][j - 2] + 1);
            }
            row.push(best);
        }
        rows.push(row);
    }
    rows[a.len()][b.len()]
}

#[cfg(test)]
mod tests {
    use super::did_you_mean;

    #[test]
    fn a_slip_is_recognised_and_another_word_is_not() {
        let known = ["device.groups", "device.barred", "nas.site"];
        assert_eq!(did_you_mean("device.gruops", known), Some("device.groups"));
        assert_eq!(did_you_mean("NAS.Site", known), Some("nas.site"));
        assert_eq!(did_you_mean("certificate.issuer", known), None);
    }
}
