//! The answers themselves.

use std::collections::{BTreeMap, HashMap};

use lsp_types::{
    CodeAction, CodeActionKind, CodeActionOrCommand, CodeActionParams, CompletionItem, CompletionItemKind,
    CompletionParams, CompletionTextEdit, Diagnostic, DiagnosticSeverity, DocumentFormattingParams, DocumentSymbol,
    DocumentSymbolParams, GotoDefinitionParams, Hover, HoverContents, HoverParams, Location, MarkupContent, MarkupKind,
    NumberOrString, Position, PublishDiagnosticsParams, Range, ReferenceParams, RenameParams, SymbolKind,
    TextDocumentPositionParams, TextEdit, Uri, WorkspaceEdit,
};
use regnant_policy::{
    CompletionKind, OutlineKind, Schema, SourceFile, Span, complete, definition, format, hover, occurrences, outline,
    rename,
};
use regnant_service::{CheckReport, DiagnosticReport, LanguageError, Surroundings};

use crate::language_server::documents::{Documents, OpenPolicy, path};
use crate::language_server::place::{counted, offset, range};

/// What is open, and what there is.
pub(crate) struct Server {
    documents: Documents,
    around: Surroundings,
    schema: Schema,
    /// Files with findings that the editor shows.
    shown: Vec<Uri>,
    changed: bool,
}

/// A place of a policy that somebody asks about.
struct Asked {
    policy: OpenPolicy,
    offset: usize,
}

impl Server {
    pub(crate) fn new(around: Surroundings) -> Result<Self, LanguageError> {
        let schema = around.facts_and_names()?;
        Ok(Self { documents: Documents::default(), around, schema, shown: Vec::new(), changed: false })
    }

    /// Takes what there is now.
    pub(crate) fn know(&mut self, around: Surroundings) {
        if let Ok(schema) = around.facts_and_names() {
            (self.around, self.schema, self.changed) = (around, schema, true);
        }
    }

    pub(crate) fn write(&mut self, uri: &Uri, text: String) {
        if let Some(path) = path(uri) {
            self.documents.write(path, uri, text);
            self.changed = true;
        }
    }

    pub(crate) fn close(&mut self, uri: &Uri) {
        if let Some(path) = path(uri) {
            self.documents.close(&path);
            self.changed = true;
        }
    }

    /// Findings of all policies that are open, file by file, where something changed: also of files that have
    /// none, or none any more.
    pub(crate) fn findings(&mut self) -> Vec<PublishDiagnosticsParams> {
        if !std::mem::take(&mut self.changed) {
            return Vec::new();
        }
        let before = self.shown.drain(..).chain(self.documents.open());
        let mut by_file: BTreeMap<String, PublishDiagnosticsParams> = before.map(nothing_found).collect();
        for policy in self.documents.policies() {
            for found in self.report(&policy).diagnostics {
                if let (Some(uri), Some(file)) = (policy.uri(&found.file), file(&policy, &found.file)) {
                    let (key, none) = nothing_found(uri);
                    by_file.entry(key).or_insert(none).diagnostics.push(diagnostic(&policy, file, &found));
                }
            }
        }
        let all: Vec<_> = by_file.into_values().collect();
        self.shown = all.iter().filter(|told| !told.diagnostics.is_empty()).map(|told| told.uri.clone()).collect();
        all
    }

    fn report(&self, policy: &OpenPolicy) -> CheckReport {
        self.around.check(policy.source.clone()).unwrap_or_default()
    }

    fn asked(&self, at: &TextDocumentPositionParams) -> Option<Asked> {
        let (policy, file) = self.opened(&at.text_document.uri)?;
        let offset = offset(&policy.source, &file, at.position);
        Some(Asked { policy, offset })
    }

    fn opened(&self, uri: &Uri) -> Option<(OpenPolicy, SourceFile)> {
        let path = path(uri)?;
        let policy = self.documents.policy(&path);
        let found = file(&policy, &policy.name(&path)?)?.clone();
        Some((policy, found))
    }

    pub(crate) fn completion(&self, params: &CompletionParams) -> Vec<CompletionItem> {
        let Some(Asked { policy, offset }) = self.asked(&params.text_document_position) else { return Vec::new() };
        let told = complete(&policy.source, offset, &self.schema);
        let range = range(&policy.source, told.span);
        let item = |(place, item): (usize, regnant_policy::Completion)| CompletionItem {
            label: item.text.clone(),
            kind: Some(match item.kind {
                CompletionKind::Name => CompletionItemKind::REFERENCE,
                CompletionKind::Fact => CompletionItemKind::FIELD,
                CompletionKind::Value => CompletionItemKind::VALUE,
                CompletionKind::Word => CompletionItemKind::KEYWORD,
            }),
            detail: Some(item.detail),
            // Editors sort by the alphabet where nothing is said.
            sort_text: Some(format!("{place:05}")),
            filter_text: Some(item.text.clone()),
            text_edit: Some(CompletionTextEdit::Edit(TextEdit { range, new_text: item.text })),
            ..CompletionItem::default()
        };
        told.items.into_iter().enumerate().map(item).collect()
    }

    pub(crate) fn hover(&self, params: &HoverParams) -> Option<Hover> {
        let Asked { policy, offset } = self.asked(&params.text_document_position_params)?;
        let told = hover(&policy.source, offset, &self.schema)?;
        let text = match told.text.contains('\n') {
            true => format!("**{}**\n\n```\n{}\n```", told.title, told.text),
            false => format!("**{}**\n\n{}", told.title, told.text),
        };
        let contents = HoverContents::Markup(MarkupContent { kind: MarkupKind::Markdown, value: text });
        Some(Hover { contents, range: Some(range(&policy.source, told.span)) })
    }

    pub(crate) fn definition(&self, params: &GotoDefinitionParams) -> Option<Location> {
        let Asked { policy, offset } = self.asked(&params.text_document_position_params)?;
        location(&policy, definition(&policy.source, offset)?)
    }

    pub(crate) fn references(&self, params: &ReferenceParams) -> Vec<Location> {
        let Some(Asked { policy, offset }) = self.asked(&params.text_document_position) else { return Vec::new() };
        let without_first = usize::from(!params.context.include_declaration);
        let all = occurrences(&policy.source, offset);
        all.into_iter().skip(without_first).filter_map(|span| location(&policy, span)).collect()
    }

    pub(crate) fn rename(&self, params: &RenameParams) -> Result<Option<WorkspaceEdit>, String> {
        let Some(Asked { policy, offset }) = self.asked(&params.text_document_position) else { return Ok(None) };
        let changes = rename(&policy.source, offset, &params.new_name).map_err(|error| error.to_string())?;
        Ok(Some(edits(&policy, changes.into_iter().map(|change| (change.span, change.text)))))
    }

    pub(crate) fn symbols(&self, params: &DocumentSymbolParams) -> Vec<DocumentSymbol> {
        let Some((policy, file)) = self.opened(&params.text_document.uri) else { return Vec::new() };
        let mut all: Vec<DocumentSymbol> = Vec::new();
        let here = |span: Span| file.span.start <= span.start && span.end <= file.span.end;
        for item in outline(&policy.source).into_iter().filter(|item| here(item.span) && !item.name.is_empty()) {
            let kind = match item.kind {
                OutlineKind::Gate => SymbolKind::MODULE,
                OutlineKind::Rule => SymbolKind::EVENT,
                OutlineKind::Case => SymbolKind::METHOD,
                OutlineKind::Grant | OutlineKind::Acl => SymbolKind::CLASS,
                OutlineKind::Part => SymbolKind::PROPERTY,
                _ => SymbolKind::CONSTANT,
            };
            let symbol = symbol(&policy, item.name.clone(), kind, item.kind.word(), item.span);
            match all.last_mut().filter(|_| item.gate.is_some()) {
                Some(gate) => gate.children.get_or_insert_default().push(symbol),
                None => all.push(symbol),
            }
        }
        all
    }

    pub(crate) fn formatted(&self, params: &DocumentFormattingParams) -> Result<Option<Vec<TextEdit>>, String> {
        let Some((policy, file)) = self.opened(&params.text_document.uri) else { return Ok(None) };
        let text = policy.source.text_of(&file);
        let laid = format(text).map_err(|found| found.message)?;
        let whole = Range { start: Position::default(), end: Position { line: u32::MAX, character: 0 } };
        Ok(Some(if laid == text { Vec::new() } else { vec![TextEdit { range: whole, new_text: laid }] }))
    }

    /// Changes that mend what is found in a range.
    pub(crate) fn actions(&self, params: &CodeActionParams) -> Vec<CodeActionOrCommand> {
        let Some((policy, here)) = self.opened(&params.text_document.uri) else { return Vec::new() };
        let mut actions = Vec::new();
        for found in self.report(&policy).diagnostics.into_iter().filter(|found| found.file == here.name) {
            let Some(edit) = &found.edit else { continue };
            let told = diagnostic(&policy, &here, &found);
            if told.range.end < params.range.start || params.range.end < told.range.start {
                continue;
            }
            let changes = edit.changes.iter().map(|change| {
                (counted(&policy.source, &here, (change.line, change.column), change.length), change.text.clone())
            });
            actions.push(CodeActionOrCommand::CodeAction(CodeAction {
                title: edit.what.clone(),
                kind: Some(CodeActionKind::QUICKFIX),
                edit: Some(edits(&policy, changes)),
                diagnostics: Some(vec![told]),
                is_preferred: Some(true),
                ..CodeAction::default()
            }));
        }
        actions
    }
}

/// That a file has no findings, by its address.
fn nothing_found(uri: Uri) -> (String, PublishDiagnosticsParams) {
    (uri.as_str().to_owned(), PublishDiagnosticsParams::new(uri, Vec::new(), None))
}

fn file<'p>(policy: &'p OpenPolicy, name: &str) -> Option<&'p SourceFile> {
    policy.source.files().iter().find(|file| file.name == name)
}

fn location(policy: &OpenPolicy, span: Span) -> Option<Location> {
    let file = policy.source.file_at(span.start)?;
    Some(Location { uri: policy.uri(&file.name)?, range: range(&policy.source, span) })
}

fn edits(policy: &OpenPolicy, changes: impl Iterator<Item = (Span, String)>) -> WorkspaceEdit {
    let mut by_file: BTreeMap<String, (Uri, Vec<TextEdit>)> = BTreeMap::new();
    for (span, new_text) in changes {
        if let Some(Location { uri, range }) = location(policy, span) {
            by_file.entry(uri.as_str().to_owned()).or_insert((uri, Vec::new())).1.push(TextEdit { range, new_text });
        }
    }
    #[allow(clippy::mutable_key_type)]
    let changes: HashMap<Uri, Vec<TextEdit>> = by_file.into_values().collect();
    WorkspaceEdit { changes: Some(changes), ..WorkspaceEdit::default() }
}

fn diagnostic(policy: &OpenPolicy, file: &SourceFile, found: &DiagnosticReport) -> Diagnostic {
    let span = counted(&policy.source, file, (found.line, found.column), found.length);
    let message = [std::slice::from_ref(&found.message), &found.notes].concat().join("\n");
    Diagnostic {
        range: range(&policy.source, span),
        severity: Some(match found.severity.as_str() {
            "error" => DiagnosticSeverity::ERROR,
            _ => DiagnosticSeverity::WARNING,
        }),
        code: Some(NumberOrString::String(found.code.clone())),
        source: Some("writ".into()),
        message,
        ..Diagnostic::default()
    }
}

#[allow(deprecated)]
fn symbol(policy: &OpenPolicy, name: String, kind: SymbolKind, what: &str, span: Span) -> DocumentSymbol {
    let range = range(&policy.source, span);
    DocumentSymbol {
        name,
        detail: Some(what.to_owned()),
        kind,
        tags: None,
        deprecated: None,
        range,
        selection_range: Range { start: range.start, end: range.start },
        children: None,
    }
}
