//! The names, types and meanings of attributes.

mod built_in;
mod definition;
mod file;

use std::borrow::Cow;
use std::collections::{BTreeMap, HashMap};
use std::sync::Arc;

use regnant_base::{At, Mistakes, TomlFile, did_you_mean};
use thiserror::Error;

use crate::assembly::AttributeList;
use crate::attribute::Attributes;
use crate::attribute_id::AttributeId;
use crate::builder::BuildError;
use crate::value::ValueError;

use built_in::BUILT_IN;
pub use definition::{Definition, Hidden, Kind, Privileged, Quantity, Vendor, VendorLayout};
pub use file::Unassigned;
use file::{DictionaryFile, Entry};

/// More attributes than this are not known at a time: each is a fact, and so numbered.
const MOST_ATTRIBUTES: usize = 32_768;

/// The names, types and meanings of attributes, out of dictionary files (see
/// `docs/dictionaries.md`).
#[derive(Clone, Debug)]
pub struct Dictionary {
    definitions: Vec<Arc<Definition>>,
    /// Places of attributes that stand in no other, by number: nearly all that is looked
    /// up.
    plain: Box<[Option<u16>; 256]>,
    /// Places of the others.
    nested: HashMap<AttributeId, u16>,
    by_name: HashMap<String, u16>,
    vendors: BTreeMap<u32, Vendor>,
    unassigned: Vec<Unassigned>,
    files: Vec<DictionaryOrigin>,
}

/// A file that attributes come from.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct DictionaryOrigin {
    /// The name of the file.
    pub file: Arc<str>,
    /// What it is known by: the file's name without its ending, or the vendor's of one that
    /// somebody wrote for this network.
    pub name: String,
    /// What it is about, for people.
    pub title: String,
    /// Its vendor's number, where it is a vendor's.
    pub vendor: Option<u32>,
}

impl Dictionary {
    /// The attributes of the RFCs that ship with this crate.
    pub fn standard() -> Self {
        Self::of_files(BUILT_IN.iter().copied()).expect("the files that ship are checked by the tests")
    }

    /// The files that ship with this crate: names and texts.
    pub fn built_in_files() -> &'static [(&'static str, &'static str)] {
        BUILT_IN
    }

    /// The attributes of these files, given by their names and texts.
    pub fn of_files<'f>(files: impl IntoIterator<Item = (&'f str, &'f str)>) -> Result<Self, Mistakes> {
        let mut dictionary = Self {
            definitions: Vec::new(),
            plain: Box::new([None; 256]),
            nested: HashMap::new(),
            by_name: HashMap::new(),
            vendors: BTreeMap::new(),
            unassigned: Vec::new(),
            files: Vec::new(),
        };
        files.into_iter().try_for_each(|(file, text)| dictionary.add_in_place(file, text))?;
        Ok(dictionary)
    }

    /// Adds the attributes of one dictionary file, all or none; `file` names it in mistakes.
    pub fn add(&mut self, file: &str, text: &str) -> Result<(), Mistakes> {
        let mut after = self.clone();
        after.add_in_place(file, text)?;
        *self = after;
        Ok(())
    }

    /// The same; where it fails, some of the file has been added.
    fn add_in_place(&mut self, file: &str, text: &str) -> Result<(), Mistakes> {
        TomlFile::read(file, text, |file, section| {
            let name = file.name().trim_end_matches(".toml").to_owned();
            self.add_read(file, name, DictionaryFile::read(file, section)?)
        })
    }

    /// The same with a file that somebody wrote for this network: attributes of a vendor, or
    /// of numbers that are left for such use. Gives the name that the file is known by.
    pub fn add_own(&mut self, file: &str, text: &str) -> Result<String, Mistakes> {
        let (after, name) = TomlFile::read(file, text, |file, section| {
            let read = DictionaryFile::read(file, section)?;
            let name = match (&read.vendor, &read.name) {
                (Some(vendor), _) => Some(vendor.value.name.clone()),
                (None, Some(name)) => Some(name.clone()),
                (None, None) => {
                    section.wrong(
                        "say whose attributes these are: `[vendor]` with `name` and `number`; or `name`, where \
                         their numbers are left for anybody's use",
                    );
                    None
                }
            };
            if !read.unassigned.is_empty() {
                section.wrong("what is not assigned is for the files that ship to say; leave `unassigned` out");
            }
            let of_rfcs = read.attributes.iter().filter(|entry| read.vendor.is_none() && entry.inside.is_empty());
            for entry in of_rfcs.filter(|entry| !self.is_free(entry.number)) {
                let free = "192 to 240 are left for such use, and a vendor's own go under `[vendor]`";
                file.wrong(entry.line, format!("the number {} is for RFCs to give: {free}", entry.number));
            }
            let mut after = self.clone();
            let name = name?;
            after.add_read(file, name.clone(), read)?;
            Some((after, name))
        })?;
        *self = after;
        Ok(name)
    }

    fn is_free(&self, number: u32) -> bool {
        self.unassigned.iter().any(|range| {
            let first = range.first.as_plain().map(u32::from);
            range.free && first.is_some_and(|first| (first..=range.last).contains(&number))
        })
    }

    fn add_read(&mut self, file: &TomlFile<'_>, name: String, read: DictionaryFile) -> Option<()> {
        self.files.push(DictionaryOrigin {
            file: read.file,
            name,
            title: read.title,
            vendor: read.vendor.as_ref().map(|vendor| vendor.value.number),
        });
        self.unassigned.extend(read.unassigned);
        let vendor = match read.vendor {
            None => None,
            Some(vendor) => Some(self.add_vendor(file, vendor)?),
        };
        for entry in read.attributes {
            self.add_entry(file, vendor.as_ref(), entry);
        }
        Some(())
    }

    fn add_vendor(&mut self, file: &TomlFile<'_>, At { value: vendor, line }: At<Vendor>) -> Option<Vendor> {
        let same_name =
            |other: &&Vendor| other.number != vendor.number && other.name.eq_ignore_ascii_case(&vendor.name);
        if let Some(other) = self.vendors.values().find(same_name).filter(|other| !other.name.is_empty()) {
            file.wrong(line, format!("the vendor `{}` has the number {} already", other.name, other.number));
            return None;
        }
        match self.vendors.get(&vendor.number) {
            Some(known) if *known != vendor => {
                let what = format!(
                    "the vendor {} is known already, as `{}` with {:?}: say the same, or leave it out",
                    vendor.number, known.name, known.layout
                );
                file.wrong(line, what);
                None
            }
            _ => {
                self.vendors.insert(vendor.number, vendor.clone());
                Some(vendor)
            }
        }
    }

    /// Adds one attribute in every place where it stands.
    fn add_entry(&mut self, file: &TomlFile<'_>, vendor: Option<&Vendor>, entry: Entry) {
        let Entry { line, name, number, inside, definition } = entry;
        let own_name = |within: Option<&Definition>| match within.filter(|outer| outer.kind == Kind::Tlv) {
            Some(outer) => format!("{}.{name}", outer.name),
            None => name.clone(),
        };
        if inside.is_empty() {
            let id = match vendor {
                Some(vendor) if number <= vendor.layout.most() => AttributeId::of_vendor(vendor.number, number),
                Some(vendor) => {
                    return file.wrong(line, format!("`number` must be at most {}", vendor.layout.most()));
                }
                None => match u8::try_from(number) {
                    Ok(number @ 1..) => AttributeId::plain(number),
                    _ => return file.wrong(line, "`number` must be 1 to 255; a vendor's file says `[vendor]`"),
                },
            };
            if let Some(vendor) = vendor {
                begins_with_vendor(file, line, vendor, &name);
            }
            return self.insert(file, line, Definition { id, name: own_name(None), ..definition });
        }
        for outer in &inside {
            let Some(within) = self.by_name(&outer.value).cloned() else {
                let names = self.definitions.iter().filter(|one| one.kind.holds_attributes());
                let hint = did_you_mean(&outer.value, names.map(|one| one.name.as_str()));
                let hint = hint.map(|name| format!("; did you mean {name}?")).unwrap_or_default();
                file.wrong(outer.line, format!("there is no attribute `{}` to stand in{hint}", outer.value));
                continue;
            };
            let of_vendor = vendor.filter(|_| within.kind == Kind::Evs);
            let id = match (within.kind, of_vendor) {
                (Kind::Evs, Some(vendor)) => within.id.inner(vendor.number).and_then(|id| id.inner(number)),
                (Kind::Tlv | Kind::Extended | Kind::LongExtended, _) => within.id.inner(number),
                _ => {
                    let kind = within.kind.word();
                    file.wrong(outer.line, format!("`{}` is of type {kind}, and nothing stands in it", within.name));
                    continue;
                }
            };
            let (Some(id), true) = (id, number <= u8::MAX.into()) else {
                file.wrong(line, "`number` must be 0 to 255, and attributes stand in one another 6 deep at most");
                continue;
            };
            if let Some(vendor) = of_vendor {
                begins_with_vendor(file, line, vendor, &name);
            }
            let (secret, accept) = (definition.secret || within.secret, definition.accept);
            self.insert(
                file,
                line,
                Definition { id, name: own_name(Some(&within)), secret, accept, ..definition.clone() },
            );
        }
    }

    fn insert(&mut self, file: &TomlFile<'_>, line: usize, definition: Definition) {
        if self.definitions.len() >= MOST_ATTRIBUTES {
            return file.wrong(line, format!("there are {MOST_ATTRIBUTES} attributes, and more cannot be known"));
        }
        let known = |place: u16| {
            let definition = &self.definitions[usize::from(place)];
            (definition, format!("in {}, line {}", definition.place.0, definition.place.1))
        };
        let same_number = match definition.id.as_plain() {
            Some(number) => self.plain[usize::from(number)],
            None => self.nested.get(&definition.id).copied(),
        };
        if let Some((other, place)) = same_number.map(known) {
            let what = format!("{} is defined already, as {} {place}", definition.id, other.name);
            return file.wrong(line, what);
        }
        let names: Vec<_> =
            [&definition.name].into_iter().chain(&definition.also).map(|name| name.to_lowercase()).collect();
        for (at, name) in names.iter().enumerate() {
            if names[..at].contains(name) {
                return file.wrong(line, format!("`{name}` is said twice"));
            }
            if let Some((other, place)) = self.by_name.get(name).copied().map(known) {
                return file.wrong(line, format!("the name `{name}` is taken, by {} {place}", other.id));
            }
        }
        // MOST_ATTRIBUTES is less than a u16 holds.
        let place = self.definitions.len() as u16;
        match definition.id.as_plain() {
            Some(number) => self.plain[usize::from(number)] = Some(place),
            None => drop(self.nested.insert(definition.id, place)),
        }
        self.by_name.extend(names.into_iter().map(|name| (name, place)));
        self.definitions.push(Arc::new(definition));
    }

    /// Every attribute, in the order of the files.
    pub fn definitions(&self) -> &[Arc<Definition>] {
        &self.definitions
    }

    /// The files that attributes come from.
    pub fn files(&self) -> &[DictionaryOrigin] {
        &self.files
    }

    /// Numbers that are not assigned to any attribute.
    pub fn unassigned(&self) -> &[Unassigned] {
        &self.unassigned
    }

    /// What is known of an attribute.
    pub fn by_id(&self, id: AttributeId) -> Option<&Definition> {
        let place = match id.as_plain() {
            Some(number) => self.plain[usize::from(number)],
            None => self.nested.get(&id).copied(),
        };
        place.map(|place| &*self.definitions[usize::from(place)])
    }

    /// The vendor of this number, where its attributes are known.
    pub fn vendor(&self, number: u32) -> Option<&Vendor> {
        self.vendors.get(&number)
    }

    /// Every vendor whose attributes are known.
    pub fn vendors(&self) -> impl Iterator<Item = &Vendor> {
        self.vendors.values()
    }

    /// The attribute of this name, or known by it too; case does not count.
    pub fn by_name(&self, name: &str) -> Option<&Arc<Definition>> {
        self.by_name.get(&name.to_lowercase()).map(|&place| &self.definitions[usize::from(place)])
    }

    /// The values of an attribute among others, in the order sent, wherever it stands. Of
    /// what holds others inside it, that which holds a secret is left out.
    pub fn values<'b>(&self, attributes: Attributes<'b>, id: AttributeId) -> Vec<Cow<'b, [u8]>> {
        let definition = self.by_id(id);
        if let Some(number) = id.as_plain()
            && definition.is_none_or(|definition| definition.kind != Kind::Concat)
        {
            let of_number = attributes.filter(|attribute| attribute.number == number);
            let shown = of_number.filter(|one| number != crate::number::VENDOR_SPECIFIC || !self.holds_secret(*one));
            return shown.map(|attribute| Cow::Borrowed(attribute.value)).collect();
        }
        let (mut values, bytes) = (Vec::new(), attributes.as_bytes());
        self.walk(bytes, |leaf| {
            if leaf.id == id && !leaf.unread {
                values.push(leaf.value(bytes));
            }
        });
        values
    }

    /// Encodes attributes given as names and texts, header and tag 0 included. Those that
    /// stand in the same TLV one after the other share it.
    pub fn encode<'t>(&self, pairs: impl IntoIterator<Item = (&'t str, &'t str)>) -> Result<Vec<u8>, EncodeError> {
        let mut list = AttributeList::default();
        for (name, text) in pairs {
            let definition = self.by_name(name).ok_or_else(|| EncodeError::Unknown { name: name.to_owned() })?;
            list.add(definition, 0, text)?;
        }
        Ok(list.encode(self)?)
    }
}

fn begins_with_vendor(file: &TomlFile<'_>, line: usize, vendor: &Vendor, name: &str) {
    let begin = name.get(..vendor.name.len()).zip(name.get(vendor.name.len()..));
    let begins = begin.is_some_and(|(begin, rest)| begin.eq_ignore_ascii_case(&vendor.name) && rest.starts_with('-'));
    if !begins && !vendor.name.is_empty() {
        file.wrong(line, format!("the name `{name}` must begin with its vendor's, such as {}-{name}", vendor.name));
    }
}

/// Why an attribute that a person wrote cannot be encoded.
#[derive(Clone, Debug, PartialEq, Eq, Error)]
#[non_exhaustive]
pub enum EncodeError {
    /// The dictionary has no such name.
    #[error("there is no attribute `{name}` in the dictionary")]
    Unknown {
        /// What was written.
        name: String,
    },
    /// The value does not suit.
    #[error(transparent)]
    Value(#[from] ValueError),
    /// It does not fit.
    #[error(transparent)]
    Build(#[from] BuildError),
}
