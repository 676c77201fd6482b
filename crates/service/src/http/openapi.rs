use utoipa::OpenApi;
use utoipa::openapi::OpenApi as Description;

use crate::http::described;
use crate::http::error::ApiError;

#[derive(OpenApi)]
#[openapi(
    info(title = "Regnant", description = "Sign in with a cookie or send `Authorization: Bearer TOKEN`."),
    components(schemas(ApiError))
)]
struct Heading;

/// What stands before the routes.
pub(crate) fn heading() -> Description {
    Heading::openapi()
}

/// The API's description as a JSON document; the console's client is made from it.
pub fn openapi_json() -> String {
    let mut text = described().into_openapi().to_pretty_json().unwrap_or_default();
    text.push('\n');
    text
}

#[cfg(test)]
mod tests {
    use std::collections::HashSet;
    use std::fs;
    use std::path::Path;

    fn sources(folder: &Path, all: &mut Vec<String>) {
        for entry in fs::read_dir(folder).unwrap() {
            let path = entry.unwrap().path();
            if path.is_dir() {
                sources(&path, all);
            } else {
                all.push(fs::read_to_string(&path).unwrap());
            }
        }
    }

    /// In the description one of two of a name would stand for both, and nobody would be told.
    #[test]
    fn no_two_forms_or_views_have_one_name() {
        let mut all = Vec::new();
        sources(&Path::new(env!("CARGO_MANIFEST_DIR")).join("src"), &mut all);
        let mut names = HashSet::new();
        for text in &all {
            let lines: Vec<_> = text.lines().collect();
            for (place, _) in lines
                .iter()
                .enumerate()
                .filter(|(_, line)| line.starts_with("#[derive(") && line.ends_with("ToSchema)]"))
            {
                let declares = |line: &&&str| line.contains("struct ") || line.contains("enum ");
                let declared = lines[place..].iter().find(declares).unwrap();
                let name =
                    declared.split_whitespace().skip_while(|word| !["struct", "enum"].contains(word)).nth(1).unwrap();
                assert!(names.insert(name.to_owned()), "there are two called {name}");
            }
        }
        assert!(names.len() > 100, "{}", names.len());
    }
}
