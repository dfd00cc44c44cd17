//! Reading XML that a stranger sent. Whatever could mean one thing to the one who checks and another to the one who reads is
//! refused as a whole: document types and entities, comments (they cut a text in two), processing instructions, two elements of
//! the same identifier, elements of mixed content where a value is expected.

use std::collections::BTreeSet;

use uppsala::{Document, NodeId, NodeKind};

use super::scan::{ATTRIBUTES_MAX, DEPTH_MAX, SCOPE_MAX, scan};

/// The largest document read, in bytes.
pub const SIZE_MAX: usize = 512 * 1024;
/// How many nodes there may be.
const NODES_MAX: usize = 20_000;

/// Why a document is not read.
#[derive(Clone, Debug, PartialEq, Eq, thiserror::Error)]
pub enum BadXml {
    #[error("it is larger than {SIZE_MAX} bytes")]
    TooLarge,
    #[error("it holds more than {NODES_MAX} nodes")]
    TooMany,
    #[error("an element has more than {ATTRIBUTES_MAX} attributes, or all of them together too many")]
    TooManyAttributes,
    #[error("more than {SCOPE_MAX} declarations of namespaces hold at one element")]
    TooManyNamespaces,
    #[error("elements nest deeper than {DEPTH_MAX}")]
    TooDeep,
    #[error("it holds a document type or an entity")]
    DocumentType,
    #[error("it holds a comment")]
    Comment,
    #[error("it holds a processing instruction")]
    Instruction,
    #[error("two elements have the identifier {0}")]
    SameId(String),
    #[error("it holds an identifier of another namespace")]
    ForeignId,
    #[error("{0} stands more than once")]
    Several(&'static str),
    #[error("{0} is missing")]
    Missing(&'static str),
    #[error("{0} holds elements where a value is expected")]
    NotText(&'static str),
    #[error("it cannot be read: {0}")]
    Malformed(String),
}

/// A document that was read.
pub struct Xml<'a> {
    pub(super) document: Document<'a>,
    root: NodeId,
}

impl<'a> Xml<'a> {
    /// The text of metadata without what says nothing and stands in files that people keep: a mark of the byte order, comments, and
    /// processing instructions such as that of a stylesheet. The canonical form that a signature is made over leaves comments out as well
    /// (Exclusive XML Canonicalization 1.0), and instructions outside the root element stand outside what is signed; one within it breaks the
    /// signature, as it should. Of messages neither is ever taken out: see [`Xml::read`].
    pub fn plain_metadata(text: &str) -> std::borrow::Cow<'_, str> {
        let text = text.trim_start_matches('\u{feff}');
        if !text.contains("<!--") && !text.contains("<?") {
            return text.into();
        }
        let mut out = String::with_capacity(text.len());
        let mut rest = text;
        while let Some(at) = rest.find('<') {
            let (before, tag) = rest.split_at(at);
            out.push_str(before);
            let ends = [("<!--", "-->", false), ("<?", "?>", false), ("<![CDATA[", "]]>", true)];
            match ends.iter().find(|(begin, ..)| tag.starts_with(begin)) {
                Some((begin, end, stays)) => match tag[begin.len()..].find(end) {
                    Some(i) => {
                        let whole = begin.len() + i + end.len();
                        if *stays {
                            out.push_str(&tag[..whole]);
                        }
                        rest = &tag[whole..];
                    }
                    // What never ends is left to the parser, which says so.
                    None => {
                        out.push_str(tag);
                        rest = "";
                    }
                },
                None => {
                    out.push('<');
                    rest = &tag[1..];
                }
            }
        }
        out.push_str(rest);
        out.into()
    }

    /// Reads a document.
    ///
    /// # Errors
    /// Every construct that is not read, by its own reason.
    pub fn read(text: &'a str) -> Result<Xml<'a>, BadXml> {
        if text.len() > SIZE_MAX {
            return Err(BadXml::TooLarge);
        }
        // Looked for in the text as well: a parser that forbids them says so in words of its own.
        if text.contains("<!DOCTYPE") || text.contains("<!ENTITY") {
            return Err(BadXml::DocumentType);
        }
        scan(text)?;
        let parser = uppsala::Parser::new().with_max_depth(DEPTH_MAX as u32).with_forbid_dtd(true).with_forbid_entities(true);
        let document = parser.parse(text).map_err(|e| BadXml::Malformed(e.to_string().chars().take(200).collect()))?;
        let root = document.document_element().ok_or(BadXml::Missing("a root element"))?;
        let all = document.descendants(document.root());
        if all.len() > NODES_MAX {
            return Err(BadXml::TooMany);
        }
        let mut ids: BTreeSet<String> = BTreeSet::new();
        for node in all {
            match document.node_kind(node) {
                Some(NodeKind::Comment(_)) => return Err(BadXml::Comment),
                Some(NodeKind::ProcessingInstruction(_)) => return Err(BadXml::Instruction),
                _ => {}
            }
            // Every attribute that any reader takes for an identifier, of whatever namespace.
            let attributes = document.element(node).map(|e| e.attributes.as_slice()).unwrap_or_default();
            for a in attributes.iter().filter(|a| a.name.local_name.eq_ignore_ascii_case("id")) {
                if a.name.namespace_uri.is_some() {
                    return Err(BadXml::ForeignId);
                }
                if !ids.insert(a.value.to_string()) {
                    return Err(BadXml::SameId(a.value.chars().take(60).collect()));
                }
            }
        }
        Ok(Xml { document, root })
    }

    /// The root element.
    pub fn root(&self) -> NodeId {
        self.root
    }

    /// Whether an element is of this name.
    pub fn is(&self, node: NodeId, namespace: &str, name: &str) -> bool {
        self.document.element(node).is_some_and(|e| e.matches_name_ns(namespace, name))
    }

    /// Children of this name.
    pub fn children(&self, node: NodeId, namespace: &str, name: &str) -> Vec<NodeId> {
        self.document.children(node).into_iter().filter(|c| self.is(*c, namespace, name)).collect()
    }

    /// The child of this name, which may stand once.
    pub fn child(&self, node: NodeId, namespace: &str, name: &'static str) -> Result<Option<NodeId>, BadXml> {
        match self.children(node, namespace, name).as_slice() {
            [] => Ok(None),
            [one] => Ok(Some(*one)),
            _ => Err(BadXml::Several(name)),
        }
    }

    /// The child of this name, which must stand once.
    pub fn need(&self, node: NodeId, namespace: &str, name: &'static str) -> Result<NodeId, BadXml> {
        self.child(node, namespace, name)?.ok_or(BadXml::Missing(name))
    }

    /// Every element of the document.
    pub fn elements(&self) -> Vec<NodeId> {
        self.document.descendants(self.document.root()).into_iter().filter(|n| self.document.element(*n).is_some()).collect()
    }

    /// The elements below one, itself among them.
    pub fn below(&self, node: NodeId) -> impl Iterator<Item = NodeId> {
        self.document.descendants(node).into_iter().chain([node]).filter(|n| self.document.element(*n).is_some())
    }

    /// The elements that stand right in one, whatever their names.
    pub fn inside(&self, node: NodeId) -> Vec<NodeId> {
        self.document.children(node).into_iter().filter(|n| self.document.element(*n).is_some()).collect()
    }

    /// The name of an element, for words.
    pub fn name(&self, node: NodeId) -> String {
        self.document.element(node).map(|e| e.name.prefixed_name().chars().take(100).collect()).unwrap_or_default()
    }

    /// The parent of a node.
    pub fn parent(&self, node: NodeId) -> Option<NodeId> {
        self.document.parent(node)
    }

    /// Prefixes with their namespaces, as they count inside an element; the empty prefix is the default.
    pub(super) fn in_scope(&self, node: NodeId) -> Vec<(String, String)> {
        let mut out: Vec<(String, String)> = vec![];
        let mut at = Some(node);
        while let Some(n) = at {
            for (prefix, uri) in self.document.element(n).into_iter().flat_map(|e| &e.namespace_declarations) {
                if !out.iter().any(|(p, _)| p == prefix) {
                    out.push((prefix.to_string(), uri.to_string()));
                }
            }
            at = self.parent(n);
        }
        out
    }

    /// An attribute without a namespace.
    pub fn attribute(&self, node: NodeId, name: &str) -> Option<&str> {
        let all = &self.document.element(node)?.attributes;
        all.iter().find(|a| a.name.namespace_uri.is_none() && a.name.local_name == name).map(|a| &*a.value)
    }

    /// The text of an element that holds nothing else.
    pub fn text(&self, node: NodeId, name: &'static str) -> Result<String, BadXml> {
        if !self.inside(node).is_empty() {
            return Err(BadXml::NotText(name));
        }
        Ok(self.document.text_content_deep(node).trim().to_owned())
    }
}
