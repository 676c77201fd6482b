use regex::{Regex, RegexBuilder};

use crate::check::literal::block;
use crate::check::{Checker, Weight};
use crate::diagnostic::Diagnostic;
use crate::parse::ast::{Comparison, Condition, Name, Operand, SetItem, Test};
use crate::run::group::OfStore;
use crate::run::method::IdentityKind;
use crate::run::program::{Expression, Leaf, LeafId, Term, TermId, Test as Compiled};
use crate::schema::{FactId, Stage, Type};
use crate::source::Span;
use crate::value::Value;
use regnant_base::{did_you_mean, go_on};

/// Functions of texts, and how many values each takes.
pub(crate) const FUNCTIONS: [(&str, usize); 6] =
    [("lower", 1), ("upper", 1), ("trim", 1), ("before", 2), ("after", 2), ("capture", 2)];
/// Comparisons of a whole policy.
const MAX_LEAVES: usize = 200_000;
/// A condition with more comparisons than this, defines written out, is refused:
/// it bounds the time of a decision.
const MAX_COMPARISONS: usize = 10_000;
/// A condition nested deeper than this, defines written out, is refused: checking
/// and deciding follow it down.
const MAX_DEPTH: usize = 128;
/// A compiled regular expression takes one of these, in bytes; a larger one is refused.
const REGEX_SIZES: [usize; 4] = [8 << 10, 64 << 10, 256 << 10, 1 << 20];
/// All of a policy together.
pub(super) const REGEX_ROOM: usize = 32 << 20;
/// What one may take beside while it is matched.
const REGEX_CACHE: usize = 256 << 10;

/// What an operand is: how to compute it, its type, and the fact in it.
struct Typed {
    expression: Expression,
    kind: Type,
    fact: Option<FactId>,
}

impl<'p> Checker<'p> {
    /// Compiles a named condition once.
    pub(super) fn define(&mut self, name: &str) -> Option<TermId> {
        if let Some(done) = self.defined.get(name) {
            return *done;
        }
        let item = *self.defines.get(name)?;
        let key = item.name.text.as_str();
        if self.open.contains(&key) {
            let message = format!("`{name}` is defined by itself");
            self.report(Diagnostic::error("W204", item.name.span, message));
            return None;
        }
        if self.open.len() >= MAX_DEPTH {
            self.report(too_deep(item.name.span));
            return None;
        }
        self.open.push(key);
        let mut node = self.condition(&item.condition);
        self.open.pop();
        // Checked where each define ends, so that no chain of them grows further.
        if node.is_some_and(|node| self.weights[node.0 as usize].depth > MAX_DEPTH) {
            self.report(too_deep(item.name.span));
            node = None;
        }
        self.defined.insert(key, node);
        node
    }

    /// Compiles a condition; `None` where a finding was reported.
    pub(super) fn condition(&mut self, condition: &Condition) -> Option<TermId> {
        go_on();
        match condition {
            Condition::And(terms) => self.terms(terms).map(|terms| self.node(Term::All(terms))),
            Condition::Or(terms) => self.terms(terms).map(|terms| self.node(Term::Any(terms))),
            Condition::Not(inner) => self.condition(inner).map(|inner| self.node(Term::Not(inner))),
            Condition::Exists { fact, span } => {
                let id = self.fact(fact)?;
                let kind = self.schema.definition(id).kind.clone();
                let left = Typed { expression: Expression::Fact(id), kind, fact: Some(id) };
                self.leaf(left, Compiled::Exists, *span)
            }
            Condition::Quantified { all, left, set, span } => self.quantified(*all, left, set, *span),
            Condition::Test { left: Operand::Word(name), test: Test::Bare, span } => self.bare(name, *span),
            Condition::Test { left: Operand::Word(name), test: Test::InGroup(group, store), span } => {
                self.in_group(name, group, store.as_ref(), *span)
            }
            Condition::Test { left, test, span } => self.test(left, test, *span),
        }
    }

    /// How many comparisons a condition takes at most.
    pub(super) fn comparisons(&self, node: TermId) -> usize {
        self.weights[node.0 as usize].comparisons
    }

    /// The fact in a condition that is not known from the first packet.
    pub(super) fn late_fact(&self, node: TermId) -> Option<FactId> {
        self.weights[node.0 as usize].late
    }

    /// A condition that failed to compile still lets the others report.
    fn terms(&mut self, terms: &[Condition]) -> Option<Box<[TermId]>> {
        let nodes: Vec<_> = terms.iter().map(|term| self.condition(term)).collect();
        let nodes: Option<Box<[_]>> = nodes.into_iter().collect();
        let total: usize = nodes.iter().flatten().map(|&node| self.weights[node.0 as usize].comparisons).sum();
        if total > MAX_COMPARISONS {
            let span = self.open.last().map_or(Span::default(), |name| self.defines[name].name.span);
            let message = format!("this condition takes more than {MAX_COMPARISONS} comparisons");
            self.report(
                Diagnostic::error("W221", span, message).note("test sets and groups rather than single values"),
            );
            return None;
        }
        nodes
    }

    fn node(&mut self, node: Term) -> TermId {
        let weight = match &node {
            Term::All(terms) | Term::Any(terms) => terms.iter().fold(Weight::default(), |sum, &term| {
                let more = self.weights[term.0 as usize];
                Weight {
                    comparisons: sum.comparisons + more.comparisons,
                    depth: sum.depth.max(more.depth + 1),
                    late: sum.late.or(more.late),
                }
            }),
            Term::Not(inner) => {
                let inner = self.weights[inner.0 as usize];
                Weight { depth: inner.depth + 1, ..inner }
            }
            Term::Asks(leaf) => {
                let fact = self.program.leaf(*leaf).fact;
                let late = (self.schema.definition(fact).known > Stage::FirstPacket).then_some(fact);
                let comparisons = self.program.leaf(*leaf).test.comparisons();
                Weight { comparisons, depth: 1, late }
            }
        };
        let id = TermId(u32::try_from(self.program.terms.len()).expect("a policy has fewer conditions than bytes"));
        self.program.terms.push(node);
        self.weights.push(weight);
        id
    }

    fn leaf(&mut self, left: Typed, test: Compiled, span: Span) -> Option<TermId> {
        let text = self.source.slice(span).split_whitespace().collect::<Vec<_>>().join(" ");
        self.leaf_called(text, left, test, span)
    }

    /// A comparison that is told as this text.
    fn leaf_called(&mut self, text: String, left: Typed, test: Compiled, span: Span) -> Option<TermId> {
        let Some(fact) = left.fact else {
            self.report(
                Diagnostic::error("W220", span, "this compares fixed values only")
                    .note("one side of a comparison must be a fact"),
            );
            return None;
        };
        let number = self.program.leaves.len();
        if number >= MAX_LEAVES {
            let message = format!("the policy has more than {MAX_LEAVES} comparisons");
            self.report(Diagnostic::error("W221", span, message));
            return None;
        }
        let ignore_case = left.kind.ignores_case();
        self.program.leaves.push(Leaf { text, span, fact, left: left.expression, test, ignore_case });
        Some(self.node(Term::Asks(LeafId(number as u32))))
    }

    fn bare(&mut self, name: &Name, span: Span) -> Option<TermId> {
        if !name.text.contains('.') {
            if self.defines.contains_key(name.text.as_str()) {
                self.mark_used("define", &name.text);
                return self.define(&name.text);
            }
            let known: Vec<_> = self.defines.keys().copied().collect();
            self.report(
                Diagnostic::error("W205", name.span, format!("nothing defines `{}`", name.text))
                    .suggest(did_you_mean(&name.text, known)),
            );
            return None;
        }
        let id = self.fact(name)?;
        let kind = self.schema.definition(id).kind.clone();
        if kind != Type::Boolean {
            let message = format!("`{}` is {}, not true or false", name.text, kind.describe());
            self.report(Diagnostic::error("W211", span, message).note("compare it: `=`, `in`, `contains`, ..."));
            return None;
        }
        self.leaf(Typed { expression: Expression::Fact(id), kind, fact: Some(id) }, Compiled::True, span)
    }

    /// `user in group "staff"` asks `user.groups`.
    fn in_group(&mut self, name: &Name, group: &Name, store: Option<&Name>, span: Span) -> Option<TermId> {
        let text = match name.text.ends_with(".groups") {
            true => name.text.clone(),
            false => format!("{}.groups", name.text),
        };
        match text.as_str() {
            "user.groups" => self.known_group(IdentityKind::User, group),
            "machine.groups" => self.known_group(IdentityKind::Machine, group),
            "device.groups" => self.known_group(IdentityKind::Mac, group),
            _ => {}
        }
        let id = self.fact(&Name { text, span: name.span })?;
        let kind = self.schema.definition(id).kind.clone();
        let expression = match store {
            None => Expression::Fact(id),
            Some(store) => self.of_store(name, store, id)?,
        };
        let member = Compiled::ContainsMember(Value::owned(group.text.clone()));
        self.leaf(Typed { expression, kind, fact: Some(id) }, member, span)
    }

    /// Groups of one store.
    fn of_store(&mut self, name: &Name, store: &Name, groups: FactId) -> Option<Expression> {
        let who = name.text.trim_end_matches(".groups");
        if let Some(stores) = self.schema.stores()
            && !stores.iter().any(|known| known.name == store.text)
            && !self.may_be_there(&store.text)
        {
            let names: Vec<_> = stores.iter().map(|known| known.name.as_str()).collect();
            let diagnostic = Diagnostic::error("W404", store.span, format!("there is no store `{}`", store.text))
                .suggest(did_you_mean(&store.text, names));
            self.report(diagnostic);
            return None;
        }
        let mut fact = |part: &str| self.fact(&Name { text: format!("{who}.{part}"), span: name.span });
        let (account, by_store) = (fact("store")?, fact("groups-by-store")?);
        let store = store.text.clone();
        Some(Expression::OfStore(Box::new(OfStore { groups, account, by_store, store })))
    }

    /// Whether it is this moment or later, or before it.
    pub(super) fn moment(&mut self, comparison: Comparison, at: i64, span: Span) -> Option<TermId> {
        let id = self.fact(&Name { text: "time.now".into(), span })?;
        let left = Typed { expression: Expression::Fact(id), kind: Type::Instant, fact: Some(id) };
        let sign = if comparison == Comparison::Less { "<" } else { ">=" };
        let text = format!("time.now {sign} {}", Value::Instant(at));
        self.leaf_called(text, left, Compiled::Compare(comparison, Expression::Literal(Value::Instant(at))), span)
    }

    /// That no identity of a kind was presented and left unproved, where the schema tells.
    pub(super) fn no_failure_of(&mut self, kind: IdentityKind, span: Span) -> Option<TermId> {
        let name = format!("{}.failure", kind.word());
        let id = self.schema.find(&name)?;
        let kind = self.schema.definition(id).kind.clone();
        let left = Typed { expression: Expression::Fact(id), kind, fact: Some(id) };
        let failed = self.leaf_called(format!("exists {name}"), left, Compiled::Exists, span)?;
        Some(self.node(Term::Not(failed)))
    }

    /// A condition that holds where all of these do.
    pub(super) fn all_of(&mut self, nodes: Vec<TermId>) -> TermId {
        self.node(Term::All(nodes.into()))
    }

    /// A condition that never holds.
    pub(super) fn never(&mut self) -> TermId {
        self.node(Term::Any([].into()))
    }

    /// Tells a group that no store has, and refuses one that fits two, where all groups are known.
    fn known_group(&mut self, kind: IdentityKind, group: &Name) {
        let Some((names, known)) = self.schema.groups(kind).filter(|_| self.groups_known) else { return };
        let wanted = group.text.to_lowercase();
        if known.twice.contains(&wanted) {
            let message = format!("more than one group is called `{}`", group.text);
            self.report(
                Diagnostic::error("W411", group.span, message)
                    .note("write the distinguished name of the one that is meant"),
            );
        } else if !names.has(&group.text) {
            let looked = match known.looked {
                Some(seconds) => format!("; the directory was looked at {} minutes ago", seconds / 60),
                None => String::new(),
            };
            let message = format!("no store has a group `{}`", group.text);
            self.report(
                Diagnostic::warning("W503", group.span, message)
                    .suggest(self.meant(&group.text, names))
                    .note(format!("nobody is in it until it is there{looked}")),
            );
        }
    }

    fn quantified(&mut self, all: bool, left: &Operand, set: &SetItem, span: Span) -> Option<TermId> {
        let left_typed = self.typed(left)?;
        let Type::Set(of) = left_typed.kind.clone() else {
            self.report(
                Diagnostic::error("W212", left.span(), format!("this is {}, not a set", left_typed.kind.describe()))
                    .note("`any of` and `all of` ask about sets; write `... in { ... }` without them"),
            );
            return None;
        };
        let list = match set {
            SetItem::Members(members) => self.literals(&of, members)?,
            SetItem::List(name) => self.listed(&of, name)?,
        };
        self.leaf(left_typed, if all { Compiled::AllOf(list) } else { Compiled::AnyOf(list) }, span)
    }

    fn test(&mut self, left: &Operand, test: &Test, span: Span) -> Option<TermId> {
        let left_typed = self.typed(left)?;
        let kind = left_typed.kind.clone();
        let compiled = match test {
            Test::Contains(operand) => match &kind {
                Type::Set(of) => Compiled::ContainsMember(self.literal(of, operand)?),
                _ => Compiled::ContainsText(self.text_literal(&kind, left, operand)?),
            },
            Test::Compare(comparison, right) => self.comparison(*comparison, &kind, left, right)?,
            _ if matches!(kind, Type::Set(_)) => {
                self.report(
                    Diagnostic::error("W212", left.span(), "this is a set and cannot be compared as a whole")
                        .note("ask `contains`, `any of ... in { ... }` or `all of ... in { ... }`"),
                );
                return None;
            }
            Test::InSet(members) if kind == Type::Instant => self.windows(members)?,
            Test::InSet(members) => Compiled::OneOf(self.literals(&kind, members)?),
            Test::InBlock(Operand::Word(name)) if self.lists.contains_key(name.text.as_str()) => {
                self.in_list(&kind, name)?
            }
            Test::InRange(first, last) => {
                self.ordered(&kind, left.span())?;
                Compiled::Range(self.literal(&kind, first)?, self.literal(&kind, last)?)
            }
            Test::InBlock(operand) => self.in_block(&kind, left, operand)?,
            Test::StartsWith(operand) => Compiled::StartsWith(self.text_literal(&kind, left, operand)?),
            Test::EndsWith(operand) => Compiled::EndsWith(self.text_literal(&kind, left, operand)?),
            Test::Matches(regex) => {
                self.must_be_text(&kind, left)?;
                Compiled::Matches(self.regex(regex, kind.ignores_case())?)
            }
            Test::Bare | Test::InGroup(..) => {
                self.report(
                    Diagnostic::error("W211", left.span(), "this is a value, not a condition")
                        .note("compare it: `=`, `in`, `contains`, ..."),
                );
                return None;
            }
        };
        self.leaf(left_typed, compiled, span)
    }

    fn comparison(&mut self, comparison: Comparison, kind: &Type, left: &Operand, right: &Operand) -> Option<Compiled> {
        if matches!(kind, Type::Set(_)) {
            self.report(
                Diagnostic::error("W212", left.span(), "this is a set and cannot be compared as a whole")
                    .note("ask `contains`, `any of ... in { ... }` or `all of ... in { ... }`"),
            );
            return None;
        }
        if !matches!(comparison, Comparison::Equal | Comparison::NotEqual) {
            self.ordered(kind, left.span())?;
        }
        let is_fact = matches!(right, Operand::Word(word) if self.schema.find(&word.text).is_some());
        if !is_fact && !matches!(right, Operand::Call { .. } | Operand::Keyed { .. }) {
            return Some(Compiled::Compare(comparison, Expression::Literal(self.literal(kind, right)?)));
        }
        let typed = self.typed(right)?;
        let same = std::mem::discriminant(&typed.kind) == std::mem::discriminant(kind);
        if !same {
            let message = format!("{} is compared with {}", kind.describe(), typed.kind.describe());
            self.report(Diagnostic::error("W214", right.span(), message));
            return None;
        }
        Some(Compiled::Compare(comparison, typed.expression))
    }

    fn in_block(&mut self, kind: &Type, left: &Operand, operand: &Operand) -> Option<Compiled> {
        let Operand::Word(word) = operand else {
            self.report(
                Diagnostic::error("W215", operand.span(), "`in` needs a set, a range or a block")
                    .note("write { ... }, 1..12, 10.44.0.0/16 or group \"name\""),
            );
            return None;
        };
        if *kind != Type::Address && !word.text.contains(['.', '/', ':']) {
            let known: Vec<_> = self.lists.keys().copied().collect();
            self.report(
                Diagnostic::error("W208", word.span, format!("there is no list `{}`", word.text))
                    .suggest(did_you_mean(&word.text, known))
                    .note("write `list NAME = { ... }`, or the members in braces"),
            );
            return None;
        }
        if *kind != Type::Address {
            let message = format!("{} cannot be in `{}`", kind.describe(), word.text);
            self.report(
                Diagnostic::error("W215", left.span(), message).note("write { ... } for a set or 1..12 for a range"),
            );
            return None;
        }
        match block(&word.text) {
            Ok((address, length)) => Some(Compiled::Block(address, length)),
            Err(message) => {
                self.report(Diagnostic::error("W216", word.span, message));
                None
            }
        }
    }

    fn ordered(&mut self, kind: &Type, span: Span) -> Option<()> {
        let ordered = matches!(kind, Type::Integer | Type::Duration | Type::Instant | Type::Address | Type::Mac);
        if !ordered {
            let message = format!("{} has no order", kind.describe());
            self.report(Diagnostic::error("W217", span, message).note("ask `=`, `!=` or `in { ... }`"));
        }
        ordered.then_some(())
    }

    fn must_be_text(&mut self, kind: &Type, left: &Operand) -> Option<()> {
        let text = matches!(kind, Type::Text { .. });
        if !text {
            self.report(Diagnostic::error("W218", left.span(), format!("this is {}, not a text", kind.describe())));
        }
        text.then_some(())
    }

    fn text_literal(&mut self, kind: &Type, left: &Operand, operand: &Operand) -> Option<String> {
        self.must_be_text(kind, left)?;
        match self.literal(kind, operand)? {
            Value::Text(text) => Some(text.into_owned()),
            _ => None,
        }
    }

    fn regex(&mut self, regex: &Name, ignore_case: bool) -> Option<Regex> {
        let mut reason = String::new();
        // What one takes shows only in what it fits into.
        for size in REGEX_SIZES {
            if size > self.regex_room {
                let message = "the regular expressions of this policy take more room than all may have together";
                self.report(
                    Diagnostic::error("W219", regex.span, message)
                        .note("write fewer or smaller ones; `starts with`, `ends with`, `contains` and `in` take none"),
                );
                return None;
            }
            let built = RegexBuilder::new(&regex.text)
                .case_insensitive(ignore_case)
                .size_limit(size)
                .dfa_size_limit(REGEX_CACHE)
                .build();
            match built {
                Ok(built) => {
                    self.regex_room -= size;
                    return Some(built);
                }
                Err(regex::Error::CompiledTooBig(_)) => reason = format!("it takes more than {size} bytes"),
                Err(error) => {
                    reason = error.to_string().lines().last().unwrap_or_default().to_owned();
                    break;
                }
            }
        }
        self.report(Diagnostic::error("W219", regex.span, "this regular expression cannot be used").note(reason));
        None
    }

    /// An operand as an expression for `identify ... as`, which must be a text.
    pub(super) fn text_expression(&mut self, operand: &Operand) -> Option<(Expression, FactId)> {
        let typed = self.typed(operand)?;
        self.must_be_text(&typed.kind, operand)?;
        match typed.fact {
            Some(fact) => Some((typed.expression, fact)),
            None => {
                self.report(Diagnostic::error("W220", operand.span(), "this is always the same text"));
                None
            }
        }
    }

    /// An operand as what is looked up: a text, an address, or the only member of a set.
    pub(super) fn key_expression(&mut self, operand: &Operand) -> Option<Expression> {
        let typed = self.typed(operand)?;
        let fits = match &typed.kind {
            Type::Set(of) => matches!(**of, Type::Text { .. }),
            kind => matches!(kind, Type::Text { .. } | Type::Mac | Type::Integer),
        };
        if !fits {
            let message = format!("this is {}, and what is looked up is a name", typed.kind.describe());
            self.report(Diagnostic::error("W331", operand.span(), message));
            return None;
        }
        Some(typed.expression)
    }

    /// An operand as the source of a statement's value, which must be a single one.
    pub(super) fn value_expression(&mut self, operand: &Operand) -> Option<(Expression, FactId)> {
        let typed = self.typed(operand)?;
        if matches!(typed.kind, Type::Set(_) | Type::Boolean) {
            let message = format!("this is {}, and a statement takes one value", typed.kind.describe());
            self.report(Diagnostic::error("W331", operand.span(), message));
            return None;
        }
        // What has no fact in it is no call of a function, which begins with one.
        typed.fact.map(|fact| (typed.expression, fact))
    }

    fn typed(&mut self, operand: &Operand) -> Option<Typed> {
        match operand {
            Operand::Word(name) => {
                let id = self.fact(name)?;
                let kind = self.schema.definition(id).kind.clone();
                Some(Typed { expression: Expression::Fact(id), kind, fact: Some(id) })
            }
            Operand::Call { function, arguments, .. } => self.call(function, arguments),
            Operand::Keyed { fact, key } => self.keyed(fact, key),
            Operand::Text(_) | Operand::Regex(_) | Operand::Secret(_) | Operand::Window(_) => {
                self.report(
                    Diagnostic::error("W206", operand.span(), "a comparison begins with a fact")
                        .note("write the fact first: nas.site = \"quayside\""),
                );
                None
            }
        }
    }

    /// The value that stands after `key=` in a member of a set.
    fn keyed(&mut self, fact: &Name, key: &Name) -> Option<Typed> {
        let id = self.fact(fact)?;
        let kind = self.schema.definition(id).kind.clone();
        let Type::Set(of) = &kind else {
            let message =
                format!("`{}` is {}, and a text after it asks a set for a member", fact.text, kind.describe());
            self.report(
                Diagnostic::error("W223", key.span, message).note(
                    "write `=` or another comparison between them; only of a set is a member asked for by its key",
                ),
            );
            return None;
        };
        let kind = (**of).clone();
        self.must_be_text(&kind, &Operand::Word(fact.clone()))?;
        let expression = Expression::Keyed(id, format!("{}=", key.text));
        Some(Typed { expression, kind, fact: Some(id) })
    }

    fn call(&mut self, function: &Name, arguments: &[Operand]) -> Option<Typed> {
        let count = self.one_of("function", function, &FUNCTIONS)?;
        if arguments.len() != count {
            let message = format!("`{}` takes {count} value(s) and has {}", function.text, arguments.len());
            self.report(Diagnostic::error("W222", function.span, message));
            return None;
        }
        let inner = self.typed(&arguments[0])?;
        self.must_be_text(&inner.kind, &arguments[0])?;
        let value = Box::new(inner.expression);
        let expression = match (function.text.as_str(), arguments.get(1)) {
            ("lower", _) => Expression::Lower(value),
            ("upper", _) => Expression::Upper(value),
            ("trim", _) => Expression::Trim(value),
            ("capture", Some(Operand::Regex(regex))) => {
                Expression::Capture(value, self.regex(regex, inner.kind.ignores_case())?)
            }
            ("before", Some(Operand::Text(text))) => Expression::Before(value, text.text.clone()),
            ("after", Some(Operand::Text(text))) => Expression::After(value, text.text.clone()),
            (name, second) => {
                let (what, span) = match name {
                    "capture" => ("a regular expression between slashes", second.map_or(function.span, Operand::span)),
                    _ => ("a text in quotes", second.map_or(function.span, Operand::span)),
                };
                self.report(Diagnostic::error("W223", span, format!("the second value of `{name}` is {what}")));
                return None;
            }
        };
        Some(Typed { expression, kind: inner.kind, fact: inner.fact })
    }
}

fn too_deep(span: Span) -> Diagnostic {
    Diagnostic::error("W224", span, format!("this condition is nested more than {MAX_DEPTH} deep, defines written out"))
        .note("let fewer defines build on one another")
}
