use crate::check::Checker;
use crate::diagnostic::Diagnostic;
use crate::parse::ast::{GateItem, MethodItem, Name, RevocationItem, TrustItem};
use crate::run::method::{
    Accepted, CertificateName, IdentityKind, Inner, Method, Revocation, RevocationSource, TrustClause,
};
use crate::run::program::Identify;
use regnant_base::did_you_mean;

impl Checker<'_> {
    pub(super) fn accepted(&mut self, item: &MethodItem) -> Option<Accepted> {
        let method = self.one_of("method", &item.name, &Method::ALL)?;
        let fitting: Vec<_> = Inner::ALL.into_iter().filter(|(_, inner)| method.inner().contains(inner)).collect();
        let words = || fitting.iter().map(|(word, _)| *word).collect::<Vec<_>>().join(", ");
        if method.is_tunnel() && item.inner.is_empty() {
            let message = format!("`{}` does not say what goes inside", item.name.text);
            let first = method.inner()[0].word();
            let note = format!("write `{}({first})`; inside may go: {}", item.name.text, words());
            self.report(Diagnostic::error("W406", item.name.span, message).note(note));
            return None;
        }
        if let (false, Some(inner)) = (method.is_tunnel(), item.inner.first()) {
            let message = format!("`{}` is no tunnel", item.name.text);
            self.report(
                Diagnostic::error("W406", inner.span, message).note("nothing goes inside: remove the parentheses"),
            );
            return None;
        }
        let inner: Vec<_> = item.inner.iter().filter_map(|name| self.one_of("inner method", name, &fitting)).collect();
        self.once("inner method", item.inner.iter());
        if let (true, Some(name)) = (inner.len() > 1, item.inner.iter().find(|name| name.text == "password")) {
            let message = "`password` cannot stand beside inner EAP methods";
            let note = "TEAP asks either for a password or for an inner EAP method: keep one of the two";
            self.report(Diagnostic::error("W406", name.span, message).note(note));
            return None;
        }
        if let (Some(bound), false) = (&item.bound, method == Method::Peap) {
            let note = match method {
                Method::Teap => "TEAP always is: remove the word",
                Method::Ttls => "EAP-TTLS has no proof of that: remove the word, or use PEAP or TEAP",
                _ => "nothing goes inside: remove the word",
            };
            let message = format!("`bound` cannot be demanded of {}", item.name.text);
            self.report(Diagnostic::error("W406", bound.span, message).note(note));
            return None;
        }
        Some(Accepted { method, inner, bound: item.bound.is_some() })
    }

    pub(super) fn trust(&mut self, item: &TrustItem) -> Option<TrustClause> {
        self.record("trust", &item.name, self.schema.trusts());
        let mut names = Vec::new();
        for (kind, places) in &item.names {
            let kind = self.one_of("kind of identity", kind, &IdentityKind::ALL)?;
            for place in places {
                names.push((kind, self.one_of("place in a certificate", place, &CertificateName::ALL)?));
            }
        }
        self.once("name form", item.names.iter().flat_map(|(_, places)| places));
        if names.is_empty() {
            let note = "add `user from san-upn` or `machine from san-dns`";
            let message = "this trust does not say where a certificate names somebody";
            self.report(Diagnostic::error("W407", item.name.span, message).note(note));
        }
        let revocation = match &item.revocation {
            Some(item) => Some(self.revocation(item)?),
            None => None,
        };
        Some(TrustClause { name: item.name.text.clone(), names, revocation })
    }

    fn revocation(&mut self, item: &RevocationItem) -> Option<Revocation> {
        let source = |name: &Name| self.one_of("source of revocation", name, &RevocationSource::ALL);
        let sources = item.sources.iter().map(source).collect::<Option<_>>()?;
        self.once("source of revocation", item.sources.iter());
        let mut revocation = Revocation { sources, unreachable_passes: false };
        if let Some(word) = &item.unreachable {
            let known = [("refuse", false), ("continue", true)];
            revocation.unreachable_passes = self.one_of("reaction", word, &known)?;
        }
        Some(revocation)
    }

    /// What methods with certificates need beside them.
    pub(super) fn certified(&mut self, item: &GateItem, accept: &[Accepted], identify: &[Identify]) {
        let name = &item.name.text;
        let missing = |what: String, note: &str| Diagnostic::error("W402", item.name.span, what).note(note);
        if let Some(method) = accept.iter().find(|accepted| accepted.method.needs_certificate())
            && item.present.is_none()
        {
            let message = format!("gate `{name}` accepts {} and presents no certificate", method.method.word());
            self.report(missing(message, "add `present certificate \"NAME\"`"));
        }
        let by_certificate = accept.iter().find(|accepted| accepted.needs_trust());
        match (by_certificate, &item.trust) {
            (Some(method), None) => {
                let message = format!("gate `{name}` accepts {} and trusts nobody's certificates", method.show());
                self.report(missing(message, "add `trust \"NAME\" { user from san-upn }`"));
            }
            (None, Some(trust)) => {
                let message = "no method of this gate takes a client's certificate";
                self.report(
                    Diagnostic::warning("W502", trust.name.span, message).note("add eap-tls, or remove the trust"),
                );
            }
            _ => {}
        }
        if let Some(remember) = &item.remember
            && !identify.iter().any(|clause| clause.kind == IdentityKind::Machine)
        {
            let message = format!("gate `{name}` remembers machines and never looks one up");
            self.report(Diagnostic::error("W402", remember.span(), message).note("add `identify machine in STORE`"));
        }
    }

    /// A name that must be one of the records'; any passes where they are unknown.
    pub(super) fn record(&mut self, what: &str, name: &Name, known: Option<&[String]>) {
        let Some(known) = known else { return };
        if known.contains(&name.text) {
            return;
        }
        let list = if known.is_empty() { "none".to_owned() } else { known.join(", ") };
        let diagnostic = Diagnostic::error("W408", name.span, format!("there is no {what} `{}`", name.text))
            .suggest(did_you_mean(&name.text, known.iter().map(String::as_str)))
            .note(format!("there is: {list}"));
        self.report(diagnostic);
    }
}
