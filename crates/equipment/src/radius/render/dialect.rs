use std::collections::{BTreeSet, HashMap};
use std::sync::Arc;

use regnant_base::{Item, Mistakes, Section, TomlFile, did_you_mean};
use regnant_decision::Purpose;
use regnant_policy::{STATEMENTS, Statement, StatementKind, StatementValue};
use regnant_radius::{Attributes, Definition, Dictionary, MAX_LEN};

use crate::radius::render::acl::AclCarriage;
use crate::radius::render::asking::{Bypass, Look};
use crate::radius::render::template::Template;

const BUILT_IN: [(&str, &str); 1] = [("standard.toml", include_str!("../../../dialects/standard.toml"))];

/// How one make of NAS wants grants expressed.
#[derive(Clone, Debug)]
pub struct Dialect {
    /// Its name, as NASes refer to it.
    pub name: String,
    /// What it is, for people.
    pub title: String,
    /// The dialect that it takes the rest from.
    pub extends: Option<String>,
    pub(crate) acl: Option<AclCarriage>,
    pub(crate) statements: HashMap<&'static str, Way>,
    /// Statements that do nothing without others.
    pub(crate) needs: HashMap<&'static str, Vec<&'static str>>,
    /// Bytes of attributes that equipment reads of a reply.
    pub(crate) most_bytes: usize,
    /// How its requests look, the first that fits counts.
    looks: Vec<Look>,
    /// How its MAC bypass may come.
    bypass: Vec<Bypass>,
    /// Whether it keeps every Class of an Access-Accept, and repeats them in its reports.
    pub several_classes: bool,
}

/// How a statement is said.
#[derive(Clone, Debug)]
pub(crate) enum Way {
    /// In these attributes.
    Attributes(Vec<Template>),
    /// Not at all, and why.
    Cannot(String),
}

impl Dialect {
    /// The dialect of the RFCs, which ships with this crate.
    pub fn standard(dictionary: &Dictionary) -> Self {
        let [(file, text)] = BUILT_IN;
        Self::read(file, text, dictionary, &[]).expect("the file that ships is checked by the tests")
    }

    /// The files that ship with this crate: names and texts.
    pub fn built_in_files() -> &'static [(&'static str, &'static str)] {
        &BUILT_IN
    }

    /// Reads a dialect file. Its attributes are those of the dictionary, and what it extends
    /// is one of `known`.
    pub fn read(file: &str, text: &str, dictionary: &Dictionary, known: &[Self]) -> Result<Self, Mistakes> {
        TomlFile::read(file, text, |_, section| read(section, dictionary, known))
    }

    /// The name that a dialect file says, whatever else it says; none where it says none.
    pub fn name_in(text: &str) -> Option<String> {
        TomlFile::text_under(text, "name")
    }

    /// Every attribute that a statement or an access list goes into.
    pub fn attributes(&self) -> BTreeSet<String> {
        let of_acl = self.acl.iter().flat_map(AclCarriage::attributes);
        let of_statements = self.statements.values().filter_map(|way| match way {
            Way::Attributes(templates) => Some(templates),
            Way::Cannot(_) => None,
        });
        let of_statements = of_statements.flatten().map(|template| &template.attribute);
        of_acl.chain(of_statements).map(|attribute| attribute.name.clone()).collect()
    }

    /// How an access list is carried, in a word; none where it cannot be.
    pub fn carries_lists(&self) -> Option<&'static str> {
        self.acl.as_ref().map(AclCarriage::word)
    }

    /// The statements that do nothing without others.
    pub fn needs(&self) -> impl Iterator<Item = (&'static str, &[&'static str])> {
        self.needs.iter().map(|(keyword, others)| (*keyword, others.as_slice()))
    }

    /// The attributes that a statement goes into, each with its value, in which `{}` stands
    /// for the statement's; nothing where the dialect cannot say it.
    pub fn attributes_of(&self, statement: &StatementKind) -> Vec<(String, String)> {
        match self.statements.get(statement.keyword) {
            Some(Way::Attributes(templates)) => {
                templates.iter().map(|template| (template.attribute.name.clone(), template.shown())).collect()
            }
            _ if statement.keyword == "acl" => {
                let attributes = self.acl.iter().flat_map(AclCarriage::attributes);
                attributes.map(|attribute| (attribute.name.clone(), "{}".into())).collect()
            }
            Some(Way::Cannot(_)) | None => Vec::new(),
        }
    }

    /// The attributes that a statement goes into by itself, each with its value where it has one that suits.
    pub(crate) fn told_of(
        &self,
        statement: &Statement,
        dictionary: &Dictionary,
    ) -> Vec<(Arc<Definition>, Option<String>)> {
        if let Some(name) = &statement.attribute {
            // What a secret says is nobody's to know.
            let known = statement.value().filter(|value| !matches!(value, StatementValue::Secret(_)));
            let value = known.map(ToString::to_string);
            return dictionary.by_name(name).map(|attribute| (attribute.clone(), value)).into_iter().collect();
        }
        let Some(Way::Attributes(templates)) = self.statements.get(statement.kind.keyword) else { return Vec::new() };
        let said = templates.iter().filter(|template| template.is_for(statement));
        said.map(|template| (template.attribute.clone(), template.value(statement).ok())).collect()
    }

    /// What a request with these attributes is for, where the dialect knows its look.
    pub(crate) fn purpose(&self, attributes: &Attributes<'_>, dictionary: &Dictionary) -> Option<Purpose> {
        self.looks.iter().find_map(|look| look.purpose(attributes, dictionary))
    }

    /// How a MAC bypass of this make may come, in words.
    pub fn mac_bypass(&self) -> impl Iterator<Item = &'static str> {
        Bypass::ALL.into_iter().filter(|(_, by)| self.takes_bypass(*by)).map(|(word, _)| word)
    }

    /// Whether a MAC bypass of this make may come so.
    pub(crate) fn takes_bypass(&self, by: Bypass) -> bool {
        self.bypass.contains(&by)
    }

    /// Why it cannot say a statement, where it says so itself.
    pub fn cannot(&self, statement: &StatementKind) -> Option<&str> {
        match self.statements.get(statement.keyword) {
            Some(Way::Cannot(why)) => Some(why),
            _ => None,
        }
    }
}

fn read(section: &Section<'_>, dictionary: &Dictionary, known: &[Dialect]) -> Option<Dialect> {
    let name = section.need("name").and_then(|item| item.text("name")).filter(|name| fits_name(name.value, section));
    let title = section.text("title").map_or_else(String::new, |title| title.value.to_owned());
    let extends = section.get("extends").and_then(|item| extended(item, known));
    let acl = section.get("acl").and_then(|item| AclCarriage::read(item, dictionary));
    let carriage = acl.as_ref().or_else(|| extends.as_ref()?.acl.as_ref());
    let by_reference = carriage.is_some_and(|carriage| carriage.reference().is_some());
    let own = section.get("statements").and_then(|item| item.section("statements"));
    let own: Vec<_> = own
        .iter()
        .flat_map(Section::entries)
        .filter_map(|(key, item)| {
            let kind = statement(key.value, &item)?;
            let templates: Vec<_> =
                item.list("statements").into_iter().map(|one| Template::read(one, kind, dictionary)).collect();
            let templates: Vec<_> = templates.into_iter().collect::<Option<_>>()?;
            if !by_reference && templates.iter().any(|template| template.inverted) {
                item.wrong(
                    "`inverted` is for lists by reference: of one that the equipment has itself only the name is told",
                );
            }
            Some((kind.keyword, Way::Attributes(templates)))
        })
        .collect();
    let cannot = section.get("cannot").and_then(|item| item.section("cannot"));
    let cannot: Vec<_> = cannot
        .iter()
        .flat_map(Section::entries)
        .filter_map(|(key, item)| {
            let kind = any_statement(key.value, &item)?;
            Some((kind.keyword, Way::Cannot(item.text(key.value)?.value.to_owned())))
        })
        .collect();
    let needs = section.get("needs").and_then(|item| item.section("needs"));
    let needs: Vec<_> = needs
        .iter()
        .flat_map(Section::entries)
        .filter_map(|(key, item)| {
            let kind = any_statement(key.value, &item)?;
            let others = item.texts(key.value).into_iter();
            let others = others.map(|other| any_statement(other.value, &item).map(|kind| kind.keyword));
            Some((kind.keyword, others.collect::<Option<Vec<_>>>()?))
        })
        .collect();
    let limits = section.get("limits").and_then(|item| item.section("limits"));
    let most_bytes = limits.as_ref().and_then(|limits| {
        let most = limits.get("reply").and_then(|item| item.number("reply", (64, MAX_LEN as u64)));
        limits.close();
        most
    });
    let looks: Vec<_> = section.sections("request").iter().filter_map(|one| Look::read(one, dictionary)).collect();
    let bypass = section.get("mac-bypass").map(|item| {
        let each = item.list("mac-bypass").into_iter();
        each.filter_map(|one| one.word("mac-bypass", &Bypass::ALL)).collect()
    });
    let classes = section.get("classes").and_then(|item| item.word("classes", &CLASSES));
    let base = extends.as_ref();
    let usual = || base.map_or_else(|| Bypass::USUAL.to_vec(), |base| base.bypass.clone());
    let bypass = bypass.unwrap_or_else(usual);
    let of_base = base.map(|base| base.looks.clone()).unwrap_or_default();
    let mut statements = base.map(|base| base.statements.clone()).unwrap_or_default();
    let mut acl = acl.or_else(|| base.and_then(|base| base.acl.clone()));
    for (keyword, way) in own.into_iter().chain(cannot) {
        if keyword == "acl" {
            acl = None;
        }
        statements.insert(keyword, way);
    }
    let mut all_needs = base.map(|base| base.needs.clone()).unwrap_or_default();
    all_needs.extend(needs);
    let otherwise = base.map_or(MAX_LEN, |base| base.most_bytes);
    Some(Dialect {
        name: name?.value.to_owned(),
        title,
        extends: extends.as_ref().map(|base| base.name.clone()),
        acl,
        statements,
        needs: all_needs,
        most_bytes: most_bytes.map_or(otherwise, |most| most.value as usize),
        looks: looks.into_iter().chain(of_base).collect(),
        bypass,
        several_classes: classes.unwrap_or_else(|| base.is_some_and(|base| base.several_classes)),
    })
}

/// How many Class attributes a make repeats.
const CLASSES: [(&str, bool); 2] = [("one", false), ("several", true)];

fn extended(item: Item<'_>, known: &[Dialect]) -> Option<Dialect> {
    let name = item.text("extends")?.value;
    let found = known.iter().find(|dialect| dialect.name.eq_ignore_ascii_case(name));
    if found.is_none() {
        let names = || known.iter().map(|dialect| dialect.name.as_str());
        let hint = did_you_mean(name, names()).map_or_else(
            || format!("there are: {}", names().collect::<Vec<_>>().join(", ")),
            |name| format!("did you mean {name}?"),
        );
        item.wrong(format!("there is no dialect `{}` to extend; {hint}", name.escape_debug()));
    }
    found.cloned()
}

/// A statement that is said in attributes.
fn statement(keyword: &str, item: &Item<'_>) -> Option<&'static StatementKind> {
    let kind = any_statement(keyword, item)?;
    if kind.keyword == "acl" || kind.names_attribute() {
        let how = if kind.keyword == "acl" {
            "say under `acl` how access lists travel"
        } else {
            "it says the attribute itself"
        };
        item.wrong(format!("`{keyword}` is not said in attributes: {how}"));
        return None;
    }
    Some(kind)
}

fn any_statement(keyword: &str, item: &Item<'_>) -> Option<&'static StatementKind> {
    let kind = StatementKind::of(keyword);
    if kind.is_none() {
        let hint = did_you_mean(keyword, STATEMENTS.iter().map(|kind| kind.keyword))
            .map(|keyword| format!("; did you mean {keyword}?"))
            .unwrap_or_default();
        item.wrong(format!("grants have no statement `{}`{hint}", keyword.escape_debug()));
    }
    kind
}

fn fits_name(name: &str, section: &Section<'_>) -> bool {
    let fits = name.starts_with(|c: char| c.is_ascii_alphabetic())
        && name.len() <= 100
        && name.bytes().all(|byte| byte.is_ascii_alphanumeric() || byte == b'-');
    if !fits {
        section.wrong(format!("`{}` is no name: write letters, digits and hyphens", name.escape_debug()));
    }
    fits
}
