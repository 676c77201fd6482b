use std::sync::Arc;

use jiff::tz::TimeZone;

use crate::check::Checker;
use crate::diagnostic::Diagnostic;
use crate::parse::ast::{Name, Operand};
use crate::run::program::Test;
use crate::schema::Type;
use crate::value::Value;
use crate::window::{ALWAYS, Window, hours, weekday};
use regnant_base::did_you_mean;

impl Checker<'_> {
    /// The time zone of this name.
    pub(super) fn zone(&mut self, name: &Name) -> Option<TimeZone> {
        let zone = TimeZone::get(&name.text).ok();
        if zone.is_none() {
            let known: Vec<_> = jiff::tz::db().available().map(|zone| zone.to_string()).collect();
            let diagnostic = Diagnostic::error("W140", name.span, format!("there is no time zone `{}`", name.text))
                .suggest(did_you_mean(&name.text, known.iter().map(String::as_str)))
                .note("zones are named by area and city, such as \"Europe/Lisbon\"");
            self.report(diagnostic);
        }
        zone
    }

    /// Members of a set as values of a type.
    pub(super) fn literals(&mut self, kind: &Type, members: &[Operand]) -> Option<Arc<[Value<'static>]>> {
        let values: Vec<_> = members.iter().map(|member| self.literal(kind, member)).collect();
        values.into_iter().collect()
    }

    /// The members of a list as values of a type.
    pub(super) fn listed(&mut self, kind: &Type, name: &Name) -> Option<Arc<[Value<'static>]>> {
        let Some(list) = self.lists.get(name.text.as_str()).copied() else {
            let known: Vec<_> = self.lists.keys().copied().collect();
            self.report(
                Diagnostic::error("W208", name.span, format!("there is no list `{}`", name.text))
                    .suggest(did_you_mean(&name.text, known))
                    .note("write `list NAME = { ... }`, or the members in braces"),
            );
            return None;
        };
        self.mark_used("list", &name.text);
        let key = (list.name.text.as_str(), format!("{kind:?}"));
        if let Some(values) = self.listed.get(&key) {
            return values.clone();
        }
        let values = self.literals(kind, &list.members);
        self.listed.insert(key, values.clone());
        values
    }

    /// A test whether a single value is in a list.
    pub(super) fn in_list(&mut self, kind: &Type, name: &Name) -> Option<Test> {
        match (kind, self.lists.get(name.text.as_str()).copied()) {
            (Type::Instant, Some(list)) => {
                self.mark_used("list", &name.text);
                self.windows(&list.members)
            }
            _ => self.listed(kind, name).map(Test::OneOf),
        }
    }

    /// Hours of days; moments are compared.
    pub(super) fn windows(&mut self, members: &[Operand]) -> Option<Test> {
        let mut windows = Vec::new();
        for member in members {
            let Operand::Window(window) = member else {
                let message = "expected hours of days";
                let note =
                    "write { Mon..Fri 06:00-20:00, Sat 08:00-12:00 }; a single moment is compared with `<` or `>=`";
                self.report(Diagnostic::error("W210", member.span(), message).note(note));
                return None;
            };
            let day = |name: &Name| weekday(&name.text);
            let days = match &window.days {
                None => ALWAYS.days,
                Some((first, last)) => {
                    let last = last.as_ref().unwrap_or(first);
                    let Some(days) = day(first).zip(day(last)) else {
                        let message = format!("`{}` is no day", last.text);
                        let note = "days are Mon, Tue, Wed, Thu, Fri, Sat and Sun";
                        self.report(Diagnostic::error("W210", last.span, message).note(note));
                        return None;
                    };
                    days
                }
            };
            let minutes = window.hours.as_ref().and_then(|word| hours(&word.text)).unwrap_or(ALWAYS.minutes);
            windows.push(Window { days, minutes });
        }
        let Some(zone) = self.zone.clone() else {
            let span = members.first().map_or_else(Default::default, Operand::span);
            self.report(
                Diagnostic::error("W141", span, "whose clock is this?")
                    .note("say the time zone at the top of main.writ: `zone \"Europe/Lisbon\"`"),
            );
            return None;
        };
        Some(Test::Windows(windows.into(), zone))
    }
}
