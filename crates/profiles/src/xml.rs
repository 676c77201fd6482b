//! XML documents as trees: what is within what cannot go wrong, and text is escaped by the
//! one who writes it.

use quick_xml::Writer;
use quick_xml::events::{BytesDecl, BytesEnd, BytesStart, BytesText, Event};

/// An element.
pub(crate) struct Element {
    name: &'static str,
    namespace: Option<&'static str>,
    inside: Inside,
}

enum Inside {
    Text(String),
    Elements(Vec<Element>),
}

/// An element with others in it.
pub(crate) fn element(name: &'static str, inside: impl IntoIterator<Item = Element>) -> Element {
    Element { name, namespace: None, inside: Inside::Elements(inside.into_iter().collect()) }
}

/// An element with text in it.
pub(crate) fn leaf(name: &'static str, text: impl Into<String>) -> Element {
    Element { name, namespace: None, inside: Inside::Text(text.into()) }
}

impl Element {
    /// The same in a namespace, which those in it share.
    pub(crate) fn of(self, namespace: &'static str) -> Self {
        Self { namespace: Some(namespace), ..self }
    }

    /// A document with this as its root.
    pub(crate) fn document(&self) -> String {
        let mut writer = Writer::new(Vec::new());
        let declaration = BytesDecl::new("1.0", None, None);
        let written = writer.write_event(Event::Decl(declaration)).and_then(|()| self.write(&mut writer));
        written.expect("memory takes what is written to it");
        String::from_utf8(writer.into_inner()).expect("what is written is text") + "\n"
    }

    fn write(&self, writer: &mut Writer<Vec<u8>>) -> std::io::Result<()> {
        let start = BytesStart::new(self.name).with_attributes(self.namespace.map(|namespace| ("xmlns", namespace)));
        writer.write_event(Event::Start(start))?;
        match &self.inside {
            Inside::Text(text) => writer.write_event(Event::Text(BytesText::new(text)))?,
            Inside::Elements(elements) => elements.iter().try_for_each(|element| element.write(writer))?,
        }
        writer.write_event(Event::End(BytesEnd::new(self.name)))
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn a_document_nests_and_escapes() {
        let root = element("A", [leaf("B", "<x> & y"), element("C", [])]).of("urn:a");
        assert_eq!(root.document(), "<?xml version=\"1.0\"?><A xmlns=\"urn:a\"><B>&lt;x&gt; &amp; y</B><C></C></A>\n");
    }
}
