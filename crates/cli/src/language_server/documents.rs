//! Policies as the editor has them: what is open goes before what is on the disk.

use std::collections::HashMap;
use std::path::{Path, PathBuf};
use std::str::FromStr;

use lsp_types::Uri;
use regnant_policy::{MAIN, PolicyFiles, Source};

use crate::policy_files;

/// Folders above a file in which its policy is looked for.
const HIGHEST: usize = 5;

/// What is open, each with its address as the editor writes it.
#[derive(Default)]
pub(crate) struct Documents(HashMap<PathBuf, (Uri, String)>);

/// A policy, and where its files are.
pub(crate) struct OpenPolicy {
    pub(crate) source: Source,
    folder: PathBuf,
    /// The addresses of files that are open, by their names.
    open: HashMap<String, Uri>,
}

impl Documents {
    pub(crate) fn write(&mut self, path: PathBuf, uri: &Uri, text: String) {
        self.0.insert(path, (uri.clone(), text));
    }

    pub(crate) fn close(&mut self, path: &Path) {
        self.0.remove(path);
    }

    /// The addresses of all files that are open.
    pub(crate) fn open(&self) -> impl Iterator<Item = Uri> {
        self.0.values().map(|(uri, _)| uri.clone())
    }

    /// The policies of all files that are open, each once.
    pub(crate) fn policies(&self) -> Vec<OpenPolicy> {
        let mut mains: Vec<_> =
            self.0.keys().map(|path| self.folder(path).map_or(path.clone(), Path::to_owned)).collect();
        mains.sort();
        mains.dedup();
        mains
            .into_iter()
            .map(|main| if self.0.contains_key(&main) { self.alone(&main) } else { self.read(main) })
            .collect()
    }

    /// The policy that a file is part of.
    pub(crate) fn policy(&self, path: &Path) -> OpenPolicy {
        self.folder(path).map_or_else(|| self.alone(path), |folder| self.read(folder.to_owned()))
    }

    /// The nearest folder above a file that has a main.writ.
    fn folder<'p>(&self, path: &'p Path) -> Option<&'p Path> {
        let has_main = |folder: &&Path| self.0.contains_key(&folder.join(MAIN)) || folder.join(MAIN).is_file();
        path.ancestors().skip(1).take(HIGHEST).find(has_main)
    }

    /// A file that is part of no folder is a policy by itself, as it is to `policy check FILE`.
    fn alone(&self, path: &Path) -> OpenPolicy {
        let name = path.file_name().unwrap_or_default().to_string_lossy().into_owned();
        let (uri, text) = self.0.get(path).map_or((None, ""), |(uri, text)| (Some(uri.clone()), text));
        let open = uri.map(|uri| (name.clone(), uri)).into_iter().collect();
        let folder = path.parent().unwrap_or(path).to_owned();
        OpenPolicy { source: Source::new(name, text), folder, open }
    }

    fn read(&self, folder: PathBuf) -> OpenPolicy {
        let mut files = policy_files::read(&folder).map_or_else(|_| PolicyFiles::from(""), |policy| policy.files);
        let mut open = HashMap::new();
        for (path, (uri, text)) in &self.0 {
            let Some(name) = path.strip_prefix(&folder).ok().and_then(Path::to_str) else { continue };
            open.insert(name.to_owned(), uri.clone());
            match name {
                MAIN => files.main.clone_from(text),
                name => drop(files.included.insert(name.to_owned(), text.clone())),
            }
        }
        OpenPolicy { source: Source::from(&files), folder, open }
    }
}

impl OpenPolicy {
    /// The name of a file in the policy.
    pub(crate) fn name(&self, path: &Path) -> Option<String> {
        path.strip_prefix(&self.folder).ok().and_then(Path::to_str).map(str::to_owned)
    }

    /// The address of a file of it.
    pub(crate) fn uri(&self, name: &str) -> Option<Uri> {
        self.open.get(name).cloned().or_else(|| uri(&self.folder.join(name)))
    }
}

/// The path of a file by its address (RFC 8089).
pub(crate) fn path(uri: &Uri) -> Option<PathBuf> {
    let rest = uri.as_str().strip_prefix("file://")?;
    let path = rest.find('/').map(|start| &rest[start..])?;
    let (mut bytes, mut left) = (Vec::with_capacity(path.len()), path.bytes());
    while let Some(byte) = left.next() {
        match byte {
            b'%' => {
                let digit = |byte: u8| char::from(byte).to_digit(16);
                let (high, low) = (digit(left.next()?)?, digit(left.next()?)?);
                bytes.push((high * 16 + low) as u8);
            }
            byte => bytes.push(byte),
        }
    }
    String::from_utf8(bytes).ok().map(PathBuf::from)
}

fn uri(path: &Path) -> Option<Uri> {
    let mut text = String::from("file://");
    for byte in path.to_str()?.bytes() {
        match byte {
            b'a'..=b'z' | b'A'..=b'Z' | b'0'..=b'9' | b'/' | b'-' | b'_' | b'.' | b'~' => text.push(byte.into()),
            byte => text.push_str(&format!("%{byte:02X}")),
        }
    }
    Uri::from_str(&text).ok()
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn addresses_of_files_go_there_and_back() {
        for text in ["/home/ida/policy/main.writ", "/p/two words/main é.writ", "/a+b%/c#d.writ"] {
            let there = uri(Path::new(text)).unwrap();
            assert_eq!(path(&there), Some(PathBuf::from(text)), "{}", there.as_str());
        }
        let parse = |text: &str| Uri::from_str(text).ok().and_then(|uri| path(&uri));
        assert_eq!(parse("file://localhost/a/b.writ"), Some(PathBuf::from("/a/b.writ")));
        assert_eq!(parse("untitled:new"), None);
    }
}
