//! Revocation lists as people need to know of them: one that ends without a
//! successor keeps everybody out whose issuer must be heard.

use jiff::Timestamp;
use regnant_eap::RevocationList;
use serde::{Deserialize, Serialize};
use utoipa::ToSchema;

use crate::administration::certificates::{DAY, LinkReport, WARNED_AT};

/// A revocation list.
#[derive(Clone, Debug, Default, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
pub struct ListReport {
    /// The authority whose certificates it tells about.
    pub issuer: String,
    /// Seconds since 1970 at which it was made.
    pub this_update: i64,
    /// Seconds since 1970 at which it ends; none where it does not say.
    pub next_update: Option<i64>,
    /// Whole days until it ends; negative where it has ended.
    pub days_left: Option<i64>,
    /// How many certificates are on it.
    pub revoked: usize,
}

impl ListReport {
    pub(crate) fn read(der: &[u8], now: i64) -> Option<Self> {
        let RevocationList { issuer, this_update, next_update, revoked } = RevocationList::read(der).ok()?;
        let days_left = next_update.map(|end| (end - now).div_euclid(DAY));
        Some(Self { issuer, this_update, next_update, days_left, revoked })
    }

    /// What is to be told of its end, and for which of the days that people are
    /// warned at, 0 where it has ended: none more than half of its life before, since a list that is made
    /// every week is no news each week.
    pub(crate) fn ending(&self) -> Option<(i64, String)> {
        let (end, left) = (self.next_update?, self.days_left?);
        let issuer = &self.issuer;
        if left < 0 {
            let day = Timestamp::from_second(end).map(|end| end.strftime("%Y-%m-%d").to_string()).unwrap_or_default();
            let text = format!("The revocation list of `{issuer}` ended on {day}: who was revoked since is not known.");
            return Some((0, text));
        }
        let life = (end - self.this_update) / DAY;
        let mark = *WARNED_AT.iter().find(|days| left < **days && 2 * **days <= life)?;
        let when = match left {
            0 => "today".to_owned(),
            1 => "tomorrow".to_owned(),
            days => format!("in {days} days"),
        };
        Some((mark, format!("The revocation list of `{issuer}` ends {when}. Bring the next one before.")))
    }
}

/// The list of each issuer that counts longest.
pub(crate) fn freshest(lists: &[ListReport]) -> impl Iterator<Item = &ListReport> {
    let end = |list: &ListReport| list.next_update.unwrap_or(i64::MAX);
    lists.iter().enumerate().filter_map(move |(place, list)| {
        let better = |(other_place, other): (usize, &ListReport)| {
            other.issuer == list.issuer && (end(other), other_place) > (end(list), place)
        };
        (!lists.iter().enumerate().any(better)).then_some(list)
    })
}

/// What is odd about the lists of a trust. `strict` are its gates that refuse
/// whoever no list tells about.
pub(crate) fn list_findings(authorities: &[LinkReport], lists: &[ListReport], strict: &[String]) -> Vec<String> {
    let gates = strict.join(", ");
    let mut findings: Vec<_> = freshest(lists)
        .filter_map(ListReport::ending)
        .map(|(mark, text)| match mark {
            _ if strict.is_empty() => text,
            0 => format!("{text} Every certificate that it issued is refused at {gates}."),
            _ => format!("{text} Afterwards every certificate that it issued is refused at {gates}."),
        })
        .collect();
    let unlisted = authorities.iter().filter(|authority| lists.iter().all(|list| list.issuer != authority.subject));
    findings.extend(unlisted.filter(|_| !strict.is_empty()).map(|authority| {
        format!(
            "There is no revocation list of `{}`: every certificate that it issued is refused at {gates}. Bring one, \
             or let the gate's `trust` say `unreachable continue`.",
            authority.subject
        )
    }));
    findings
}

#[cfg(test)]
mod tests {
    use super::*;

    fn list(issuer: &str, life: i64, left: i64) -> ListReport {
        ListReport {
            issuer: issuer.into(),
            this_update: 1_700_000_000 - (life - left) * DAY,
            next_update: Some(1_700_000_000 + left * DAY),
            days_left: Some(left),
            revoked: 0,
        }
    }

    #[test]
    fn a_list_is_told_of_before_its_end_as_its_life_allows() {
        let told = |life, left| list("CN=x", life, left).ending();
        assert_eq!(told(365, 30), None);
        assert_eq!(told(365, 29).unwrap().0, 30);
        assert!(told(365, 6).unwrap().1.contains("ends in 6 days"));
        assert_eq!((told(7, 5), told(7, 1)), (None, None), "a week's list is told of on its last day");
        assert!(told(7, 0).unwrap().1.contains("ends today"));
        assert_eq!(told(1, 0), None);
        let (mark, text) = told(1, -1).unwrap();
        assert!(mark == 0 && text.contains("ended on 2023-11-13: who was revoked since is not known"), "{text}");
        assert_eq!(ListReport::default().ending(), None, "a list without an end");
    }

    #[test]
    fn only_the_list_that_counts_longest_matters_and_what_lacks_is_told_where_it_keeps_people_out() {
        let authority = |subject: &str| LinkReport { subject: subject.into(), ..LinkReport::default() };
        let authorities = [authority("CN=a"), authority("CN=b")];
        let (old, new) = (list("CN=a", 7, -1), list("CN=a", 7, 5));
        let crew = ["crew".to_owned()];
        assert!(list_findings(&authorities, &[old.clone(), new.clone(), new.clone()], &[]).is_empty());
        let told = list_findings(&authorities, &[new, old.clone()], &crew);
        assert_eq!(told.len(), 1);
        assert!(told[0].starts_with("There is no revocation list of `CN=b`: every certificate"), "{told:?}");
        let told = list_findings(&authorities[..1], std::slice::from_ref(&old), &crew);
        assert!(told[0].ends_with("not known. Every certificate that it issued is refused at crew."), "{told:?}");
        assert!(list_findings(&authorities[..1], &[old], &[])[0].ends_with("since is not known."));
    }
}
