//! The layout of the code: folders have an order, and a file imports only from folders before its own; no two files import each other. Read from the `use` and
//! `import` lines of every crate and of the console.

#![allow(clippy::unwrap_used, reason = "a test may panic")]

use std::{
    collections::{BTreeMap, BTreeSet},
    fs,
    path::{Path, PathBuf},
    process::Command,
};

/// The order of folders and files at the top of each crate, from the bottom up. A folder may use those before it.
const ORDER: [(&str, &str); 12] = [
    (
        "crates/core/src",
        "time pattern token_limits model answer block suggest units query catalogue visibility completion selection summary rollup plan evaluate thinning keeping schema lib",
    ),
    ("crates/jobs/src", "durations figures job lib"),
    ("crates/formats/src", "lib mapping csv decode definitions document json units openmetrics otlp plan_document senml tables tally unpack"),
    ("crates/columnar/src", "lib batch answer points file stream"),
    (
        "crates/wire/src",
        "push problem access datasets ask backup bin definitions health imports jobs mappings arrivals retention rollups secrets flows sinks sources series storage overview lib",
    ),
    (
        "crates/store/src",
        "error span disk secrets partition catalogue journal head changes levels options limits missing feed engine read compact ingest bin inspect rollup retention \
         parts backup startup store convert repair lib",
    ),
    ("crates/access/src", "error secret grant token change rate records registry lib"),
    (
        "crates/flows/src",
        "error levels tls progress rejects watch arrivals intake events secret definition http runtime broker database named sources supervisor sinks lib",
    ),
    (
        "crates/service/src",
        "problem backups clock config memory warnings imports tls access http state permission changes views jobs api logging server lib",
    ),
    ("crates/cli/src", "args failure profiles client output confirm typed commands host run main"),
    ("demo/src", "behaviour waterway generator peers lib"),
    (
        "console/src",
        "api format ui frame features/overview features/catalogue features/keeping features/ask features/definitions features/arrivals features/sending features/access app main",
    ),
];

/// Crates, from the bottom up: a crate depends on those before it.
const CRATES: [&str; 11] = ["core", "jobs", "formats", "columnar", "store", "access", "wire", "flows", "service", "demo", "cli"];

fn root() -> PathBuf {
    Path::new(env!("CARGO_MANIFEST_DIR")).join("../..")
}

/// Source files below a folder, by their paths below it.
fn sources(folder: &Path) -> BTreeMap<String, String> {
    let (mut found, mut folders) = (BTreeMap::new(), vec![folder.to_owned()]);
    while let Some(next) = folders.pop() {
        for entry in fs::read_dir(&next).unwrap() {
            let path = entry.unwrap().path();
            let name = path.strip_prefix(folder).unwrap().to_str().unwrap().to_owned();
            if path.is_dir() {
                folders.push(path);
            } else if [".rs", ".ts", ".tsx"].iter().any(|end| name.ends_with(end)) && !name.contains(".test.") && !name.contains("tests") {
                found.insert(name, fs::read_to_string(&path).unwrap());
            }
        }
    }
    found
}

/// The module of a Rust file: `read::source` of `read/source.rs`, `read` of `read/mod.rs`, `lib` of `lib.rs`.
fn module(file: &str) -> String {
    file.trim_end_matches(".rs").trim_end_matches("/mod").replace('/', "::")
}

/// The code of a file without comments and without the tests at its end.
fn code(text: &str) -> String {
    let until = text.find("#[cfg(test)]\nmod tests").or_else(|| text.find("#[cfg(test)]\npub mod tests")).unwrap_or(text.len());
    text[..until].lines().map(|line| line.split("//").next().unwrap_or_default()).collect::<Vec<_>>().join("\n")
}

/// Paths of a use tree, such as `a::b` and `a::c` of `a::{b, c}`.
fn paths(tree: &str, before: &str, found: &mut Vec<String>) {
    let tree = tree.trim();
    let Some((start, rest)) = tree.split_once('{') else {
        found.push(format!("{before}{}", tree.split(" as ").next().unwrap_or_default().trim()));
        return;
    };
    let inside = &rest[..rest.rfind('}').unwrap_or(rest.len())];
    let (mut depth, mut from) = (0, 0);
    for (at, character) in inside.char_indices().chain([(inside.len(), ',')]) {
        match character {
            '{' => depth += 1,
            '}' => depth -= 1,
            ',' if depth == 0 => {
                if !inside[from..at].trim().is_empty() {
                    paths(&inside[from..at], &format!("{before}{}", start.trim()), found);
                }
                from = at + 1;
            }
            _ => {}
        }
    }
}

/// Every path within the crate that a file names, from the crate's root.
fn named(module: &str, code: &str) -> Vec<Vec<String>> {
    let mut found = Vec::new();
    for part in code.split("use ").skip(1) {
        let tree = part.split(';').next().unwrap_or_default().replace('\n', " ");
        if ["crate::", "super::"].iter().any(|start| tree.trim_start().starts_with(start)) {
            paths(&tree, "", &mut found);
        }
    }
    for start in ["crate::", "super::"] {
        for part in code.split(start).skip(1) {
            let path: String = part.chars().take_while(|character| character.is_alphanumeric() || "_:".contains(*character)).collect();
            found.push(format!("{start}{path}"));
        }
    }
    let own: Vec<String> = if module == "lib" || module == "main" { vec![] } else { module.split("::").map(str::to_owned).collect() };
    let absolute = |path: String| {
        let mut parts: Vec<String> = path.split("::").map(|part| part.trim().to_owned()).filter(|part| !part.is_empty()).collect();
        if parts.first().is_some_and(|part| part == "crate") {
            return parts.split_off(1);
        }
        // `super` of a file in a folder is the folder's module; that of a folder's module is the one above.
        let mut base = own.clone();
        while parts.first().is_some_and(|part| part == "super") {
            base.pop();
            parts.remove(0);
        }
        base.extend(parts);
        base
    };
    found.into_iter().map(absolute).collect()
}

/// Which file imports which.
fn arrows_of_rust(files: &BTreeMap<String, String>) -> BTreeMap<String, BTreeSet<String>> {
    let modules: BTreeMap<String, String> = files.keys().map(|file| (module(file), file.clone())).collect();
    let mut arrows: BTreeMap<String, BTreeSet<String>> = BTreeMap::new();
    for (file, text) in files {
        let to = arrows.entry(file.clone()).or_default();
        for path in named(&module(file), &code(text)) {
            let found = (1..=path.len()).rev().find_map(|length| modules.get(&path[..length].join("::")));
            // A name at the root belongs to the crate's root module.
            let found = found.or_else(|| modules.get("lib").filter(|_| !path.is_empty()));
            to.extend(found.filter(|found| *found != file).cloned());
        }
    }
    arrows
}

fn arrows_of_typescript(files: &BTreeMap<String, String>) -> BTreeMap<String, BTreeSet<String>> {
    let mut arrows: BTreeMap<String, BTreeSet<String>> = BTreeMap::new();
    for (file, text) in files {
        let to = arrows.entry(file.clone()).or_default();
        for quoted in text.split(['"', '\'']).filter(|part| part.starts_with("./") || part.starts_with("../")) {
            let mut parts: Vec<&str> = file.split('/').collect();
            parts.pop();
            for part in quoted.split('/') {
                match part {
                    "." => {}
                    ".." => drop(parts.pop()),
                    part => parts.push(part),
                }
            }
            let path = parts.join("/");
            let candidates = ["", ".ts", ".tsx", "/index.ts", "/index.tsx"].map(|end| format!("{path}{end}"));
            to.extend(candidates.into_iter().find(|path| files.contains_key(path)));
        }
    }
    arrows
}

/// The folder or file at the top that a file belongs to, as [`ORDER`] names it.
fn top(file: &str) -> String {
    let parts: Vec<&str> = file.split('/').collect();
    let length = if parts[0] == "features" { 2 } else { 1 };
    parts[..length.min(parts.len())].join("/").trim_end_matches(".rs").trim_end_matches(".tsx").trim_end_matches(".ts").to_owned()
}

/// A circle of files, if there is one.
fn circle(arrows: &BTreeMap<String, BTreeSet<String>>) -> Option<Vec<String>> {
    // 1 while a file is on the way that is walked, 2 once all that it reaches is known to be free of circles.
    fn walk(at: &str, arrows: &BTreeMap<String, BTreeSet<String>>, seen: &mut BTreeMap<String, u8>, way: &mut Vec<String>) -> Option<Vec<String>> {
        match seen.get(at) {
            Some(1) => return Some(way[way.iter().position(|known| known == at).unwrap()..].to_vec()),
            Some(_) => return None,
            None => {}
        }
        seen.insert(at.to_owned(), 1);
        way.push(at.to_owned());
        let found = arrows.get(at).into_iter().flatten().find_map(|to| walk(to, arrows, seen, way));
        way.pop();
        seen.insert(at.to_owned(), 2);
        found
    }
    let mut seen = BTreeMap::new();
    arrows.keys().find_map(|file| walk(file, arrows, &mut seen, &mut Vec::new()))
}

/// Faults of a crate: imports against the order, and a circle.
fn faults(order: &str, files: &BTreeMap<String, String>, is_rust: bool) -> Vec<String> {
    let order: Vec<&str> = order.split_whitespace().collect();
    let place = |file: &str| order.iter().position(|known| *known == top(file));
    let mut arrows = if is_rust { arrows_of_rust(files) } else { arrows_of_typescript(files) };
    let mut faults: Vec<String> =
        files.keys().filter(|file| place(file).is_none()).map(|file| format!("{file} is in no folder of the list")).collect();
    for (file, to) in &arrows {
        for other in to.iter().filter(|other| place(other) > place(file)) {
            faults.push(format!("{file} imports {other}, which comes later in the list"));
        }
    }
    // A crate's root and a folder's module list their files, which is no arrow of the code.
    for (file, to) in &mut arrows {
        let folder = file.strip_suffix("mod.rs");
        to.retain(|other| folder.is_none_or(|folder| !other.starts_with(folder)));
    }
    faults.extend(circle(&arrows).map(|circle| format!("a circle: {}", circle.join(" -> "))));
    faults
}

#[test]
fn folders_use_only_those_before_them_and_files_form_no_circle() {
    let mut all = Vec::new();
    for (folder, order) in ORDER {
        let files = sources(&root().join(folder));
        assert!(files.len() > 1, "{folder} has sources");
        all.extend(faults(order, &files, !folder.starts_with("console")).into_iter().map(|fault| format!("{folder}: {fault}")));
    }
    assert!(all.is_empty(), "{}", all.join("\n"));
}

#[test]
fn crates_depend_only_on_those_below_them() {
    for (at, name) in CRATES.iter().enumerate() {
        let folder = if *name == "demo" { root().join("demo") } else { root().join("crates").join(name) };
        let manifest = fs::read_to_string(folder.join("Cargo.toml")).unwrap();
        for other in CRATES.iter().skip(at) {
            assert!(!manifest.contains(&format!("\nfenetre-{other}.workspace")), "{name} depends on {other}");
        }
    }
}

/// Packages that a build links, by their names.
fn packages(arguments: &[&str]) -> BTreeSet<String> {
    let tree = ["tree", "--offline", "--locked", "--edges", "normal", "--prefix", "none", "--format", "{p}"];
    let output = Command::new(env!("CARGO")).current_dir(root()).args(tree).args(arguments).output().unwrap();
    assert!(output.status.success(), "{}", String::from_utf8_lossy(&output.stderr));
    String::from_utf8_lossy(&output.stdout).lines().filter_map(|line| line.split(' ').next()).map(str::to_owned).collect()
}

#[test]
fn the_client_links_neither_the_web_server_nor_the_database() {
    let (whole, client) = (packages(&["-p", "fenetre-cli"]), packages(&["-p", "fenetre-cli", "--no-default-features"]));
    for package in ["actix-web", "tokio", "rusqlite", "fenetre-store", "fenetre-service"] {
        assert!(whole.contains(package), "{package} is a package of the whole binary");
        assert!(!client.contains(package), "the client links {package}");
    }
    assert!(!packages(&["-p", "fenetre-core"]).contains("utoipa"), "the core alone knows nothing of an API");
}

#[test]
fn an_arrow_against_the_order_and_a_circle_are_found() {
    let files = |texts: &[(&str, &str)]| texts.iter().map(|(file, text)| ((*file).to_owned(), (*text).to_owned())).collect::<BTreeMap<_, _>>();
    let tree = files(&[
        ("lib.rs", "mod low;\nmod high;"),
        ("low/mod.rs", "pub mod one;"),
        ("low/one.rs", "use crate::{\n    high::{self, Thing},\n};"),
        ("high.rs", "use crate::low::one::Other;"),
    ]);
    let found = faults("low high lib", &tree, true);
    assert_eq!(found, ["low/one.rs imports high.rs, which comes later in the list", "a circle: high.rs -> low/one.rs"]);
    let tree = files(&[
        ("lib.rs", ""),
        ("low.rs", "fn f() { super::high::g() }"),
        ("high.rs", "// use crate::low::f;\n#[cfg(test)]\nmod tests { use crate::low::f; }"),
    ]);
    assert_eq!(faults("low high lib", &tree, true), ["low.rs imports high.rs, which comes later in the list"]);
    let tree = files(&[("a/x.ts", "import { y } from \"../b/y\";"), ("b/y.tsx", "import { x } from '../a/x';"), ("c.ts", "")]);
    assert_eq!(
        faults("a b", &tree, false),
        ["c.ts is in no folder of the list", "a/x.ts imports b/y.tsx, which comes later in the list", "a circle: a/x.ts -> b/y.tsx"]
    );
}
