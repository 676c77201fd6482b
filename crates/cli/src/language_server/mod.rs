//! What an editor asks while somebody writes a policy, answered over the language server protocol. All that it
//! knows of policies is the core's; here is only what the protocol wants.

mod answers;
mod documents;
mod place;

use std::process::ExitCode;

use lsp_server::{Connection, ErrorCode, Message, Notification, Request, Response};
use lsp_types::{
    CodeActionKind, CodeActionOptions, CodeActionProviderCapability, CompletionOptions, DidChangeTextDocumentParams,
    DidCloseTextDocumentParams, DidOpenTextDocumentParams, HoverProviderCapability, OneOf, ServerCapabilities,
    TextDocumentSyncCapability, TextDocumentSyncKind, TextDocumentSyncOptions, TextDocumentSyncSaveOptions,
};
use regnant_service::Surroundings;
use serde::Serialize;
use serde::de::DeserializeOwned;
use serde_json::Value;

use crate::args;
use crate::check::{of_file, of_service};
use crate::failure::Failure;
use crate::language_server::answers::Server;

/// Answers until the editor ends it.
pub(crate) fn run(args: &args::Lsp) -> Result<ExitCode, Failure> {
    let around = match (&args.inventory, args.against_service) {
        (Some(file), _) => of_file(file)?,
        (None, true) => of_service(&args.api)?,
        (None, false) => Surroundings::default(),
    };
    let server = Server::new(around).map_err(Failure::usage)?;
    let (connection, threads) = Connection::stdio();
    let failed =
        |error: &dyn std::fmt::Display| Failure::new(format!("the editor does not speak the protocol: {error}"));
    let capabilities = serde_json::to_value(capabilities()).map_err(|error| failed(&error))?;
    connection.initialize(capabilities).map_err(|error| failed(&error))?;
    answer(&connection, server, args).map_err(|error| failed(&error))?;
    drop(connection);
    threads.join().map_err(|error| failed(&error))?;
    Ok(ExitCode::SUCCESS)
}

fn capabilities() -> ServerCapabilities {
    let sync = TextDocumentSyncOptions {
        open_close: Some(true),
        change: Some(TextDocumentSyncKind::FULL),
        save: Some(TextDocumentSyncSaveOptions::Supported(true)),
        ..TextDocumentSyncOptions::default()
    };
    let quick_fix =
        CodeActionOptions { code_action_kinds: Some(vec![CodeActionKind::QUICKFIX]), ..CodeActionOptions::default() };
    ServerCapabilities {
        text_document_sync: Some(TextDocumentSyncCapability::Options(sync)),
        completion_provider: Some(CompletionOptions {
            trigger_characters: Some(vec![".".into(), "\"".into(), " ".into(), "(".into()]),
            ..CompletionOptions::default()
        }),
        hover_provider: Some(HoverProviderCapability::Simple(true)),
        definition_provider: Some(OneOf::Left(true)),
        references_provider: Some(OneOf::Left(true)),
        rename_provider: Some(OneOf::Left(true)),
        document_symbol_provider: Some(OneOf::Left(true)),
        document_formatting_provider: Some(OneOf::Left(true)),
        code_action_provider: Some(CodeActionProviderCapability::Options(quick_fix)),
        ..ServerCapabilities::default()
    }
}

type Sent = Result<(), Box<dyn std::error::Error + Send + Sync>>;

fn answer(connection: &Connection, mut server: Server, args: &args::Lsp) -> Sent {
    for message in &connection.receiver {
        match message {
            Message::Request(request) => {
                if connection.handle_shutdown(&request)? {
                    return Ok(());
                }
                connection.sender.send(Message::Response(reply(&server, request)))?;
            }
            Message::Notification(note) => take(&mut server, note, args),
            Message::Response(_) => {}
        }
        // Where more is typed already, what was written before is no matter any more.
        if connection.receiver.is_empty() {
            for findings in server.findings() {
                let method = "textDocument/publishDiagnostics".to_owned();
                connection.sender.send(Message::Notification(Notification::new(method, findings)))?;
            }
        }
    }
    Ok(())
}

/// Takes what the editor tells.
fn take(server: &mut Server, note: Notification, args: &args::Lsp) {
    fn read<P: DeserializeOwned>(params: Value) -> Option<P> {
        serde_json::from_value(params).ok()
    }
    match note.method.as_str() {
        "textDocument/didOpen" => {
            if let Some(DidOpenTextDocumentParams { text_document }) = read(note.params) {
                server.write(&text_document.uri, text_document.text);
            }
        }
        "textDocument/didChange" => {
            if let Some(DidChangeTextDocumentParams { text_document, content_changes }) = read(note.params)
                && let Some(whole) = content_changes.into_iter().last()
            {
                server.write(&text_document.uri, whole.text);
            }
        }
        "textDocument/didClose" => {
            if let Some(DidCloseTextDocumentParams { text_document }) = read(note.params) {
                server.close(&text_document.uri);
            }
        }
        // Who cannot be reached now goes on as it was.
        "textDocument/didSave" if args.against_service => {
            if let Ok(around) = of_service(&args.api) {
                server.know(around);
            }
        }
        _ => {}
    }
}

/// The answer to a request.
fn reply(server: &Server, request: Request) -> Response {
    let Request { id, method, params } = request;
    fn told<P: DeserializeOwned, R: Serialize>(
        params: Value,
        answer: impl FnOnce(P) -> Result<R, String>,
    ) -> Result<Value, (ErrorCode, String)> {
        let params = serde_json::from_value(params).map_err(|error| (ErrorCode::InvalidParams, error.to_string()))?;
        let answer = answer(params).map_err(|why| (ErrorCode::RequestFailed, why))?;
        serde_json::to_value(answer).map_err(|error| (ErrorCode::InternalError, error.to_string()))
    }
    let answer = match method.as_str() {
        "textDocument/completion" => told(params, |params| Ok(server.completion(&params))),
        "textDocument/hover" => told(params, |params| Ok(server.hover(&params))),
        "textDocument/definition" => told(params, |params| Ok(server.definition(&params))),
        "textDocument/references" => told(params, |params| Ok(server.references(&params))),
        "textDocument/rename" => told(params, |params| server.rename(&params)),
        "textDocument/documentSymbol" => told(params, |params| Ok(server.symbols(&params))),
        "textDocument/formatting" => told(params, |params| server.formatted(&params)),
        "textDocument/codeAction" => told(params, |params| Ok(server.actions(&params))),
        _ => Err((ErrorCode::MethodNotFound, format!("`{method}` is not offered"))),
    };
    match answer {
        Ok(answer) => Response::new_ok(id, answer),
        Err((code, message)) => Response::new_err(id, code as i32, message),
    }
}
