//! An editor's side of the language server: a real loop over its standard input and output.
mod running;

use std::fs;
use std::io::BufReader;
use std::path::Path;
use std::process::{Child, ChildStdin, ChildStdout, Command, Stdio};

use lsp_server::{Message, Notification, Request};
use regnant_campus::harbour;
use running::*;
use serde_json::{Value, json};

const MAIN: &str = "include \"grants.writ\"\n\ngate all {\n  accept mac\n  identify mac in harbour-devices { unknown continue }\n\n  \
                    rule \"Cranes\" {\n    when device in group \"cranes\"\n    grant quay\n  }\n  otherwise refuse\n}\n";
const GRANTS: &str = "# Of the quay.\ngrant quay { vlan 30 }\n";

struct Editor {
    child: Child,
    to: ChildStdin,
    from: BufReader<ChildStdout>,
    asked: i32,
}

impl Editor {
    fn start(args: &[&str]) -> Self {
        let mut command = regnant();
        command.arg("lsp").args(args);
        Self::of(command)
    }

    fn of(mut command: Command) -> Self {
        command.stdin(Stdio::piped()).stdout(Stdio::piped()).stderr(Stdio::piped());
        let mut child = command.spawn().unwrap();
        let (to, from) = (child.stdin.take().unwrap(), BufReader::new(child.stdout.take().unwrap()));
        let mut editor = Self { child, to, from, asked: 0 };
        let can = editor.ask("initialize", &json!({ "capabilities": {}, "processId": null, "rootUri": null }));
        assert_eq!(can["capabilities"]["renameProvider"], true, "{can}");
        editor.tell("initialized", &json!({}));
        editor
    }

    fn tell(&mut self, method: &str, params: &Value) {
        let note = Notification { method: method.into(), params: params.clone() };
        Message::Notification(note).write(&mut self.to).unwrap();
    }

    /// The answer, or its error.
    fn try_ask(&mut self, method: &str, params: &Value) -> Result<Value, String> {
        self.asked += 1;
        let request = Request { id: self.asked.into(), method: method.into(), params: params.clone() };
        Message::Request(request).write(&mut self.to).unwrap();
        loop {
            if let Message::Response(answer) = Message::read(&mut self.from).unwrap().unwrap() {
                return answer.response_result.map_err(|error| error.message);
            }
        }
    }

    fn ask(&mut self, method: &str, params: &Value) -> Value {
        self.try_ask(method, params).unwrap()
    }

    /// Opens a file, or writes something else into it, and gives what is found: by the ends of the addresses.
    fn write(&mut self, path: &Path, text: &str, opens: bool, files: usize) -> Vec<(String, Vec<Value>)> {
        let uri = uri(path);
        if opens {
            let document = json!({ "uri": uri, "languageId": "writ", "version": 1, "text": text });
            self.tell("textDocument/didOpen", &json!({ "textDocument": document }));
        } else {
            let change = json!({ "textDocument": { "uri": uri, "version": 2 }, "contentChanges": [{ "text": text }] });
            self.tell("textDocument/didChange", &change);
        }
        (0..files).map(|_| self.findings()).collect()
    }

    fn findings(&mut self) -> (String, Vec<Value>) {
        loop {
            if let Message::Notification(note) = Message::read(&mut self.from).unwrap().unwrap()
                && note.method == "textDocument/publishDiagnostics"
            {
                let file = note.params["uri"].as_str().unwrap().rsplit('/').next().unwrap().to_owned();
                return (file, note.params["diagnostics"].as_array().unwrap().clone());
            }
        }
    }

    fn end(mut self) {
        self.ask("shutdown", &Value::Null);
        self.tell("exit", &Value::Null);
        assert!(self.child.wait().unwrap().success());
    }
}

fn uri(path: &Path) -> String {
    format!("file://{}", path.display())
}

/// The place of a part of a text, so many characters into it.
fn place(path: &Path, text: &str, part: &str, more: usize) -> Value {
    let before = &text[..text.find(part).unwrap()];
    let line = before.matches('\n').count();
    let character = before.rsplit('\n').next().unwrap().chars().count() + more;
    json!({ "textDocument": { "uri": uri(path) }, "position": { "line": line, "character": character } })
}

/// A text with changes made, the last first.
fn changed(text: &str, edits: &Value) -> String {
    let mut changed = text.to_owned();
    let offset = |place: &Value| {
        let lines: usize =
            text.split('\n').take(place["line"].as_u64().unwrap() as usize).map(|line| line.len() + 1).sum();
        (lines + place["character"].as_u64().unwrap() as usize).min(text.len())
    };
    for edit in edits.as_array().unwrap().iter().rev() {
        let range = offset(&edit["range"]["start"])..offset(&edit["range"]["end"]);
        changed.replace_range(range, edit["newText"].as_str().unwrap());
    }
    changed
}

#[test]
fn an_editor_is_helped_with_a_policy_of_several_files() {
    let dir = tempfile::tempdir().unwrap();
    let (main, grants, inventory) =
        (dir.path().join("main.writ"), dir.path().join("grants.writ"), dir.path().join("inventory.toml"));
    fs::write(&main, MAIN).unwrap();
    fs::write(&grants, GRANTS).unwrap();
    fs::write(&inventory, harbour::INVENTORY).unwrap();
    let mut editor = Editor::start(&["--inventory", &inventory.display().to_string()]);
    // A mistake is told at its place, with what would mend it; mended, the editor forgets it.
    let wrong = MAIN.replace("\"cranes\"", "\"crane\"");
    let told = editor.write(&main, &wrong, true, 1).remove(0);
    assert_eq!((told.0.as_str(), told.1.len()), ("main.writ", 1), "{told:?}");
    assert_eq!((told.1[0]["code"].as_str(), told.1[0]["severity"].as_u64()), (Some("W503"), Some(2)), "{told:?}");
    assert!(told.1[0]["message"].as_str().unwrap().contains("did you mean `cranes`?"), "{told:?}");
    let range = told.1[0]["range"].clone();
    assert_eq!(range["start"], json!({ "line": 7, "character": 25 }));
    assert_eq!(range["end"], json!({ "line": 7, "character": 32 }));
    let asks = json!({ "textDocument": { "uri": uri(&main) }, "range": range, "context": { "diagnostics": [] } });
    let actions = editor.ask("textDocument/codeAction", &asks);
    assert_eq!(actions[0]["title"], "write \"cranes\"", "{actions}");
    assert_eq!(changed(&wrong, &actions[0]["edit"]["changes"][uri(&main)]), MAIN);
    assert_eq!(editor.write(&main, MAIN, false, 1).remove(0).1, Vec::<Value>::new());
    // What is not saved yet counts in the other files.
    let other = GRANTS.replace("quay {", "pier {");
    let told = editor.write(&grants, &other, true, 2);
    let of_main = &told.iter().find(|(file, _)| file == "main.writ").unwrap().1;
    assert!(of_main[0]["message"].as_str().unwrap().contains("there is no grant `quay`"), "{of_main:?}");
    editor.write(&grants, GRANTS, false, 2);
    // Completion, what a word means, and where a name has its meaning.
    let begun = MAIN.replace("grant quay", "grant qu");
    editor.write(&main, &begun, false, 2);
    let offered = editor.ask("textDocument/completion", &place(&main, &begun, "grant qu", 8));
    assert_eq!(offered[0]["textEdit"]["newText"], "quay", "{offered}");
    assert_eq!(offered[0]["textEdit"]["range"]["start"]["character"], 10);
    editor.write(&main, MAIN, false, 2);
    let told = editor.ask("textDocument/hover", &place(&main, MAIN, "device in group", 2));
    assert_eq!(told, Value::Null, "`device` alone is no fact");
    let told = editor.ask("textDocument/hover", &place(&main, MAIN, "grant quay", 7));
    assert!(told["contents"]["value"].as_str().unwrap().contains("grant quay { vlan 30 }"), "{told}");
    let found = editor.ask("textDocument/definition", &place(&main, MAIN, "grant quay", 7));
    assert_eq!(
        (found["uri"].as_str().unwrap(), found["range"]["start"]["line"].as_u64()),
        (&uri(&grants)[..], Some(1))
    );
    // Another name, in all files.
    let mut renames = place(&main, MAIN, "grant quay", 7);
    renames["newName"] = json!("cranes-edge");
    let edits = editor.ask("textDocument/rename", &renames)["changes"].clone();
    assert!(changed(MAIN, &edits[uri(&main)]).contains("grant cranes-edge\n"));
    assert!(changed(GRANTS, &edits[uri(&grants)]).contains("grant cranes-edge { vlan 30 }"));
    renames["newName"] = json!("not a name");
    assert!(editor.try_ask("textDocument/rename", &renames).unwrap_err().contains("cannot be a name"));
    // One layout, the outline, and who names something.
    let loose = MAIN.replace("  accept mac", "accept    mac");
    editor.write(&main, &loose, false, 2);
    let options = json!({ "textDocument": { "uri": uri(&main) }, "options": { "tabSize": 2, "insertSpaces": true } });
    let laid = editor.ask("textDocument/formatting", &options);
    assert_eq!(laid[0]["newText"], MAIN);
    let outline = editor.ask("textDocument/documentSymbol", &json!({ "textDocument": { "uri": uri(&main) } }));
    assert!(outline.to_string().contains("\"Cranes\"") && !outline.to_string().contains("\"quay\""), "{outline}");
    let mut named = place(&grants, GRANTS, "quay {", 1);
    named["context"] = json!({ "includeDeclaration": true });
    assert_eq!(editor.ask("textDocument/references", &named).as_array().unwrap().len(), 2);
    // What nobody offers, what makes no sense and what is half written is answered, too.
    assert!(editor.try_ask("textDocument/inlayHint", &json!({})).unwrap_err().contains("is not offered"));
    assert!(editor.try_ask("textDocument/hover", &json!({ "no": 1 })).is_err());
    editor.write(&main, "gate all { rule \"x\n when ((((", false, 2);
    editor.ask("textDocument/completion", &place(&main, "gate all { rule \"x\n when ((((", "((((", 4));
    editor.end();
}

#[test]
fn a_file_without_a_folder_is_a_policy_by_itself() {
    let dir = tempfile::tempdir().unwrap();
    let (one, other) = (dir.path().join("one.writ"), dir.path().join("other.writ"));
    let mut editor = Editor::start(&[]);
    let text = MAIN.replace("include \"grants.writ\"\n", GRANTS);
    assert_eq!(editor.write(&one, &text, true, 1), [("one.writ".to_owned(), Vec::new())]);
    // Another beside it is another, until a main.writ joins them.
    let told = editor.write(&other, "grant crew { vlan 20 }\n", true, 2);
    let of = |told: &[(String, Vec<Value>)], name: &str| {
        let found = told.iter().find(|(file, _)| file == name).map(|(_, found)| found.clone()).unwrap();
        found.iter().map(|one| one["code"].as_str().unwrap().to_owned()).collect::<Vec<_>>()
    };
    assert_eq!((of(&told, "one.writ"), of(&told, "other.writ")), (vec![], vec!["W501".to_owned(), "W409".to_owned()]));
    fs::write(
        dir.path().join("main.writ"),
        "include \"other.writ\"\ngate a {\n  accept mac\n  identify mac in devices\n  otherwise grant crew\n}\n",
    )
    .unwrap();
    let told = editor.write(&other, "grant crew { vlan 21 }\n", false, 2);
    assert_eq!((of(&told, "one.writ"), of(&told, "other.writ")), (vec!["W504".to_owned()], vec![]));
    editor.end();
}

#[test]
fn an_editor_is_helped_with_what_a_running_service_has() {
    let service = Running::harbour();
    let file = service.data.join("main.writ");
    let text = MAIN.replace("include \"grants.writ\"\n", GRANTS);
    fs::write(&file, &text).unwrap();
    let mut editor = Editor::of(service.client(&["lsp", "--against-service"]));
    let begun = text.replace("in harbour-devices", "in har");
    editor.write(&file, &begun, true, 1);
    let offered = editor.ask("textDocument/completion", &place(&file, &begun, "in har", 6));
    let names: Vec<_> = offered.as_array().unwrap().iter().map(|item| item["label"].as_str().unwrap()).collect();
    assert_eq!(names, ["harbour", "harbour-devices"]);
    editor.end();
}
