//! The console in headless Chromium, as the service serves it: what a person sees, with the mouse and with the keyboard alone.

#![allow(clippy::unwrap_used, reason = "a test may panic")]

#[path = "support/browser.rs"]
mod browser;
#[path = "support/mod.rs"]
mod support;

use std::path::Path;

use browser::{Browser, wanted};
use fantoccini::key::Key;
use support::{Api, Service, an_hour_of_levels, file};
use tempfile::TempDir;

const HOUR: &str = "over=2026-05-01T09%3A00+to+2026-05-01T10%3A00&per=5m";

/// A browser and a service with an empty store. None if the console is not to be tested.
async fn empty_console() -> Option<(TempDir, Service, Browser)> {
    opened(|folder| Service::start(&folder.join("store"))).await
}

/// A browser and a service with an hour of levels in its first dataset. None if the console is not to be tested.
async fn filled_console() -> Option<(TempDir, Service, Browser)> {
    opened(filled).await
}

async fn opened(start: fn(&Path) -> Service) -> Option<(TempDir, Service, Browser)> {
    if !wanted() {
        return None;
    }
    let folder = tempfile::tempdir().unwrap();
    let service = start(folder.path());
    Some((folder, service, Browser::open().await))
}

/// A service with an hour of levels in its first dataset.
fn filled(folder: &Path) -> Service {
    let service = Service::start(&folder.join("store"));
    let levels = file(folder, "levels.csv", an_hour_of_levels());
    let ran = service.run(&["import", &levels, "--tag", "lock", "--tag", "side", "--value", "level_cm=level", "--state", "gate"]);
    assert_eq!(ran.code(), 0, "{}", ran.all());
    service.run(&["metrics", "define", "level", "--unit", "cm"]);
    service
}

#[tokio::test]
async fn the_first_steps_lead_to_a_chart() {
    let Some((_folder, service, browser)) = empty_console().await else { return };
    browser.go(&service.url).await;
    browser.read("four steps to the first chart").await;
    assert_eq!(browser.accessibility_findings().await, [""; 0]);
    // What the page says is what is run.
    assert!(browser.text().await.contains(&format!("{}/api/v1/datasets/main/points", service.url)));
    service.push_lines("main", "{\"metric\": \"level\", \"value\": 312.5}\n");
    browser.read("points/s").await;
    browser.read("Arrivals").await;
    browser.close().await;
}

#[tokio::test]
async fn the_keyboard_alone_leads_from_the_first_page_to_a_chart() {
    let Some((_folder, service, browser)) = filled_console().await else { return };
    browser.go(&format!("{}/?{HOUR}", service.url)).await;
    browser.read("Arrivals").await;
    browser.tab_to("Ask").await;
    browser.press(&char::from(Key::Enter).to_string()).await;
    browser.see(".cm-content").await;
    browser.tab_to("Query").await;
    browser.press("show mean of levle where lock = \"osier\"").await;
    // The error stands under the word, and in words.
    browser.see(".cm-lintRange-error").await;
    browser.read("did you mean `level`?").await;
    for _ in 0..40 {
        browser.press(&char::from(Key::Backspace).to_string()).await;
    }
    browser.press("show mean of level").await;
    browser.press(&format!("{}{}", char::from(Key::Control), char::from(Key::Enter))).await;
    browser.see("canvas").await;
    browser.read("2 series, 12 windows").await;
    let message = browser.see("[role=img][aria-label^='mean of level']").await.attr("aria-label").await.unwrap().unwrap();
    assert_eq!(message, "mean of level: 2 lines over 12 windows, from 280.50 to 324.25 cm");
    // Closer, with the keyboard, where the mouse would drag.
    browser.tab_to("Zoom in").await;
    browser.press(&char::from(Key::Space).to_string()).await;
    browser.read("2 series, 6 windows").await;
    assert!(browser.page.current_url().await.unwrap().query().unwrap().contains("over=2026-05-01T09%3A15%3A00Z+to+2026-05-01T09%3A45%3A00Z"));
    browser.close().await;
}

#[tokio::test]
async fn a_link_restores_chart_table_and_legend() {
    let Some((_folder, service, browser)) = filled_console().await else { return };
    browser.go(&format!("{}/ask?{HOUR}&q=show+mean+of+level+show+last+of+gate", service.url)).await;
    browser.read("window from").await;
    browser.read("mean of level").await;
    browser.read("last of gate").await;
    let columns = "return document.querySelector('[aria-label=\"Table of mean of level\"]').querySelectorAll('[role=columnheader]').length";
    assert_eq!(browser.run(columns).await, 3);
    browser.see("[aria-label=Lines] button").await.click().await.unwrap();
    assert_eq!(browser.run(columns).await, 2, "a line that is hidden leaves the table too");
    // Dragging across the chart sets the frame.
    browser.drag_across(".u-over", 0.25, 0.5).await;
    let over = "return document.querySelector('[aria-label=Frame] input').value";
    browser.until(over, "2026-05-01T09:1").await;
    browser.close().await;
}

/// A script that says whether an element's text holds some other.
fn shows(css: &str, text: &str) -> String {
    format!("return String((document.querySelector({css:?})?.innerText ?? '').includes({text:?}))")
}

#[tokio::test]
async fn form_and_text_are_in_step_and_the_editor_completes() {
    let Some((_folder, service, browser)) = filled_console().await else { return };
    browser.go(&format!("{}/ask?{HOUR}", service.url)).await;
    browser.see(".cm-content").await.click().await.unwrap();
    // What may come next is offered while somebody types.
    browser.press("show mean of lev").await;
    browser.read("gauge").await;
    browser.press(&char::from(Key::Enter).to_string()).await;
    browser.until(&shows(".cm-content", "show mean of level"), "true").await;
    // The form follows the text, and the text the form.
    let metric = "return String([...document.querySelectorAll('[aria-label=\"Show 1\"] input')].some((field) => field.value === 'level'))";
    browser.until(metric, "true").await;
    tokio::time::sleep(std::time::Duration::from_millis(500)).await;
    browser.press_button("overall").await;
    browser.until(&shows(".cm-content", "show mean of level overall"), "true").await;
    browser.press_button("Add a series").await;
    browser.until(&shows(".cm-content", "show max of level"), "true").await;
    browser.press_button("Ask").await;
    browser.read("Combined chart").await;
    browser.press_button("Combined chart").await;
    browser.read("Combined chart").await;
    // A comparison shows each a second time.
    browser.press_button("1d earlier").await;
    browser.until(&shows(".cm-content", "1d earlier"), "true").await;
    browser.close().await;
}

#[tokio::test]
async fn a_tag_filters_and_figures_and_sources_are_shown() {
    let Some((_folder, service, browser)) = filled_console().await else { return };
    browser.go(&format!("{}/ask?{HOUR}&q=show+mean+of+level", service.url)).await;
    browser.read("only lock").await;
    browser.see("[aria-label^='Only lock osier']").await.click().await.unwrap();
    browser.until(&shows(".cm-content", "where lock = \"osier\""), "true").await;
    browser.read("since the window before").await;
    browser.see("button[slot=trigger]").await.click().await.unwrap();
    browser.read("answered by its summary").await;
    browser.go(&format!("{}/ask?q=show+level+at+2026-05-01T09:30", service.url)).await;
    browser.read("at 2026").await;
    browser.see("[aria-label='level'] strong").await;
    browser.close().await;
}

#[tokio::test]
async fn the_catalogue_lists_metrics_series_and_tags() {
    let Some((_folder, service, browser)) = filled_console().await else { return };
    browser.go(&format!("{}/catalogue", service.url)).await;
    browser.read("gauge").await;
    browser.open_tab("Series").await;
    browser.read("324.75").await;
    browser.see("input[type=search]").await.send_keys("marl").await.unwrap();
    browser.read("2 series").await;
    browser.open_tab("Tags").await;
    browser.read("marl (2), osier (2)").await;
    browser.close().await;
}

#[tokio::test]
async fn a_file_is_previewed_tried_and_imported() {
    let Some((folder, service, browser)) = empty_console().await else { return };
    let table = "at;lock;level_cm;note\n01.05.2026 10:00;osier;312,5;\n01.05.2026 10:10;osier;313;\n01.05.2026 10:20;marl;high;\n01.05.2026 10:30;marl;280,5;\n";
    let keepers = file(folder.path(), "keepers.csv", table);
    browser.go(&format!("{}/arrivals", service.url)).await;
    browser.read("Choose a file").await;
    browser.see("input[type=file]").await.send_keys(&keepers).await.unwrap();
    browser.read("Say what its columns are").await;
    browser.read("mostly numbers").await;
    assert_eq!(browser.accessibility_findings().await, [""; 0]);
    browser.press_button("Dry run").await;
    browser.read("points that would be stored").await;
    browser.read("`high` is not a number").await;
    assert_eq!(service.get("/api/v1/overview").json()["points"], 0);
    browser.press_button("Import").await;
    browser.read("Show in the Catalogue").await;
    assert_eq!(service.get("/api/v1/overview").json()["points"], 3);
    let imports = service.get("/api/v1/imports").json();
    assert_eq!((imports[0]["stage"].as_str(), imports[0]["rejected"].as_u64()), (Some("done"), Some(1)), "{imports}");
    for (leaf, seen) in [("Imports", "keepers.csv"), ("Push", "application/senml+json"), ("Rejected", "no usable value"), ("Live", "waiting")] {
        browser.open_tab(leaf).await;
        browser.read(seen).await;
        assert_eq!(browser.accessibility_findings().await, [""; 0], "{leaf}");
    }
    service.push_lines("main", "{\"metric\": \"level\", \"value\": 987.25}\n");
    browser.read("987.25").await;
    browser.close().await;
}

#[tokio::test]
async fn a_secret_is_set_and_removed() {
    let Some((_folder, service, browser)) = empty_console().await else { return };
    browser.go(&format!("{}/access", service.url)).await;
    browser.open_tab("Secrets").await;
    browser.read("No secret is set").await;
    browser.type_into("name", "broker").await;
    browser.type_into("secret", "river").await;
    browser.press_button("Set").await;
    browser.read("It is set.").await;
    assert_eq!(browser.accessibility_findings().await, [""; 0]);
    assert_eq!(service.get("/api/v1/secrets").json()[0]["name"], "broker");
    browser.press_button("Remove").await;
    browser.press_button("Really remove broker").await;
    browser.read("No secret is set").await;
    browser.close().await;
}

#[tokio::test]
async fn a_source_is_tried_added_changed_paused_and_removed() {
    let Some((_folder, service, browser)) = empty_console().await else { return };
    browser.go(&format!("{}/arrivals", service.url)).await;
    browser.open_tab("Sources").await;
    browser.read("No source is defined").await;
    browser.press_button("Edit as text").await;
    let write = async |definition: &str| {
        let field = browser.see("textarea").await;
        // As a person would: everything is selected, and typed over.
        field.send_keys(&format!("\u{e009}a\u{e000}{definition}")).await.unwrap();
    };
    let own = format!("kind = \"poll\"\nevery = \"1s\"\ntargets = [{{ url = \"{}/metrics\" }}]\n", service.url);
    write(&own.replace("every", "evry")).await;
    browser.press_button("Try one round").await;
    browser.read("unknown field `evry`").await;
    write(&own).await;
    browser.press_button("Try one round").await;
    browser.read("nothing was stored").await;
    assert_eq!(service.get("/api/v1/overview").json()["points"], 0);
    browser.type_into("name", "own").await;
    browser.press_button("Store and start").await;
    browser.read("Added and started.").await;
    browser.press_button("Details").await;
    browser.read("in the latest round").await;
    assert_eq!(browser.accessibility_findings().await, [""; 0]);
    browser.press_button("Edit below").await;
    browser.until("return document.querySelector('textarea').value", "{\n  \"dataset\": \"main\"").await;
    browser.press_button("Store and start").await;
    browser.read("The same already").await;
    // By fields: what is typed there goes into the same text.
    browser.press_button("Edit in fields").await;
    browser.type_into("every", "\u{e009}a\u{e000}2s").await;
    browser.press_button("Add to targets").await;
    browser.see("[aria-label='address 2']").await.click().await.unwrap();
    assert_eq!(browser.accessibility_findings().await, [""; 0]);
    browser.press("http://127.0.0.1:9/pumps").await;
    browser.see("[aria-label='tags 2']").await.click().await.unwrap();
    browser.press("lock=osier").await;
    browser.press_button("Store and start").await;
    browser.read("Changed, and started again.").await;
    let definition = service.get("/api/v1/sources/own").json()["definition"].clone();
    let pumps = serde_json::json!({ "url": "http://127.0.0.1:9/pumps", "tags": { "lock": "osier" } });
    assert_eq!((&definition["every"], &definition["targets"][1]), (&serde_json::json!("2s"), &pumps), "{definition}");
    browser.press_button("Pause").await;
    browser.read("Resume").await;
    assert_eq!(service.get("/api/v1/sources/own").json()["state"], "paused");
    browser.press_button("Resume").await;
    browser.read("Run now").await;
    browser.press_button("Remove").await;
    browser.press_button("Really remove own").await;
    browser.read("No source is defined").await;
    assert_eq!(service.get("/api/v1/sources").json(), serde_json::json!([]));
    assert!(service.get("/api/v1/overview").json()["points"].as_u64() > Some(0), "its points stay");
    browser.close().await;
}

#[tokio::test]
async fn a_sink_is_tried_added_compared_and_removed() {
    let Some((folder, service, browser)) = empty_console().await else { return };
    let there = Service::start(&folder.path().join("there"));
    let point = "{\"metric\": \"level\", \"tags\": {\"lock\": \"osier\"}, \"value\": 3.5}\n";
    service.push_lines("main", point);
    browser.go(&format!("{}/sending", service.url)).await;
    browser.read("No sink is defined").await;
    browser.type_into("name", "central").await;
    browser.type_into("address of the other service", &format!("\u{e009}a\u{e000}{}", there.url)).await;
    assert_eq!(browser.accessibility_findings().await, [""; 0]);
    browser.press_button("Show what would be sent").await;
    browser.read("The destination would take them.").await;
    browser.read("\"origin\":\"north\"").await;
    browser.press_button("Store and start").await;
    browser.read("Added and started.").await;
    service.push_lines("main", point);
    browser.press_button("Details").await;
    browser.read("defined 1 metric at the destination").await;
    assert_eq!(browser.accessibility_findings().await, [""; 0]);
    // The first point came before the sink.
    browser.press_button("Compare with the destination").await;
    browser.read("differ").await;
    browser.press_button("Send again").await;
    browser.read("are sent again").await;
    while there.get("/api/v1/overview").json()["points"] != 2 {
        browser.read("are sent again").await;
    }
    browser.press_button("Compare with the destination").await;
    browser.read("The destination has the same").await;
    browser.press_button("Pause").await;
    browser.read("Resume").await;
    browser.press_button("Remove").await;
    browser.press_button("Really remove central").await;
    browser.read("No sink is defined").await;
    browser.close().await;
}

#[tokio::test]
async fn a_metric_is_defined_renamed_paused_deleted_and_restored() {
    let Some((_folder, service, browser)) = filled_console().await else { return };
    browser.go(&format!("{}/catalogue", service.url)).await;
    browser.read("1 metric was made on arrival").await;
    browser.press_button("Mark all as reviewed").await;
    browser.until("return document.body.innerText.includes('made on arrival') ? 'yes' : 'no'", "no").await;
    browser.press_button("level").await;
    browser.read("120 points in 2 series").await;
    assert_eq!(browser.accessibility_findings().await, [""; 0]);
    browser.type_into("Description", "Water at the lock").await;
    browser.press_button("Save").await;
    browser.read("saved").await;
    browser.type_into("Name", "_cm").await;
    browser.press_button("Rename").await;
    browser.read("was called").await;
    let metrics = service.get("/api/v1/datasets/main/metrics").json();
    assert_eq!((metrics[1]["name"].as_str(), metrics[1]["description"].as_str()), (Some("level_cm"), Some("Water at the lock")), "{metrics}");
    browser.press_button("Pause, pass points over").await;
    browser.read("Take points again").await;
    browser.press_button("Delete …").await;
    browser.read("go to the bin").await;
    browser.press_button("Delete level_cm").await;
    browser.read("1 metrics").await;
    browser.open_tab("Bin").await;
    browser.read("metric level_cm").await;
    browser.press_button("Restore").await;
    browser.read("The bin is empty").await;
    assert_eq!(service.get("/api/v1/overview").json()["points"], 240);

    // Another unit for points that are there: they are converted, after a look at how many.
    browser.go(&format!("{}/catalogue", service.url)).await;
    browser.press_button("level_cm").await;
    browser.type_into("Unit (UCUM)", "\u{E003}\u{E003}m").await;
    browser.press_button("Save").await;
    browser.read("120 points are in cm").await;
    assert_eq!(browser.accessibility_findings().await, [""; 0]);
    browser.press_button("Convert the points").await;
    browser.until("return document.body.innerText.includes('points are in cm') ? 'yes' : 'no'", "no").await;
    let metrics = service.get("/api/v1/datasets/main/metrics").json();
    assert_eq!((metrics[1]["unit"].as_str(), metrics[1]["points"].as_u64()), (Some("m"), Some(120)), "{metrics}");
    browser.close().await;
}

#[tokio::test]
async fn many_metrics_are_edited_from_a_table_and_tags_are_defined_and_renamed() {
    let Some((folder, service, browser)) = filled_console().await else { return };
    browser.go(&format!("{}/catalogue", service.url)).await;
    let link = browser.see("a[download]").await.attr("href").await.unwrap().unwrap();
    let taken = service.get(&link).text();
    assert!(taken.starts_with("metric,kind,unit,") && taken.contains("level,gauge,cm,"), "{taken}");
    let bring = |name: &str, table: String| {
        let table = file(folder.path(), name, table);
        let browser = &browser;
        async move { browser.see("input[type=file]").await.send_keys(&table).await.unwrap() }
    };
    bring("wrong.csv", taken.replace("gauge", "gage")).await;
    browser.read("line 3, kind: `gage` is none of").await;
    bring("right.csv", taken.replace("level,gauge,cm,", "level,gauge,m,") + "flow,gauge,m3/s\n").await;
    browser.read("line 4: it has 3 cells, the header 16").await;
    bring("unit.csv", taken.replace("level,gauge,cm,", "level,gauge,m,")).await;
    browser.read("`level` has 2 series with points in cm").await;
    let described = taken.replace("level,gauge,cm,linear,", "level,gauge,cm,linear,Water at the lock");
    assert_ne!(described, taken);
    bring("right.csv", described + "flow,gauge,m3/s,,,,,,,,,,,,,\n").await;
    browser.read("1 new, 1 changed, 1 as they are").await;
    assert_eq!(browser.accessibility_findings().await, [""; 0]);
    assert_eq!(service.get("/api/v1/datasets/main/metrics").json().as_array().unwrap().len(), 2, "looked at, not applied");
    browser.press_button("Apply all 2").await;
    browser.read("Applied right.csv").await;
    let metrics = service.get("/api/v1/datasets/main/metrics").json();
    let of = |i: usize, field: &str| metrics[i][field].as_str().unwrap_or_default().to_owned();
    assert_eq!((of(0, "name"), of(2, "description")), ("flow".to_owned(), "Water at the lock".to_owned()), "{metrics}");

    browser.open_tab("Tags").await;
    browser.press_button("side").await;
    browser.type_into("Description", "Which side of the lock").await;
    browser.type_into("Allowed values, with commas between them", "up, down").await;
    browser.see("label input[type=checkbox]").await;
    browser.run("document.querySelector('label input[type=checkbox]').click()").await;
    browser.press_button("Save").await;
    browser.read("every series carries it; one of 2 values").await;
    assert_eq!(browser.accessibility_findings().await, [""; 0]);
    browser.type_into("Key", "_of").await;
    browser.press_button("Rename").await;
    browser.read("side, which still answers").await;
    browser.press_button("Forget").await;
    browser.until("return document.body.innerText.includes('still answers') ? 'yes' : 'no'", "no").await;
    let tags = service.get("/api/v1/datasets/main/tags").json();
    assert_eq!((tags[1]["key"].as_str(), tags[1]["old_keys"].as_array().unwrap().len()), (Some("side_of"), 0), "{tags}");
    assert_eq!(tags[1]["definition"]["required"], true);
    browser.close().await;
}

#[tokio::test]
async fn a_catalogue_of_many_metrics_is_shown_in_pages() {
    let Some((folder, service, browser)) = empty_console().await else { return };
    let rows: String = (0..20_000).map(|i| format!("signal_{i:05}\n")).collect();
    let table = file(folder.path(), "metrics.csv", format!("metric\n{rows}"));
    service.push_lines("main", "{\"metric\": \"level\", \"value\": 1}\n");
    assert_eq!(service.run(&["metrics", "apply", &table, "--yes"]).code(), 0);
    browser.go(&format!("{}/catalogue", service.url)).await;
    browser.read("20,001 metrics").await;
    let drawn = "return document.querySelectorAll('[role=table] [role=row]').length";
    assert!(browser.run(drawn).await.as_u64().unwrap() < 80);
    browser.run("document.querySelector('[role=region][aria-label=Metrics]').scrollTop = 1e9").await;
    browser.read("signal_19999").await;
    browser.see("input[type=search]").await.send_keys("signal_1234").await.unwrap();
    browser.read("10 of 20,001").await;
    browser.close().await;
}

#[tokio::test]
async fn every_page_passes_the_accessibility_checks_by_day_and_by_night() {
    let Some((_folder, service, browser)) = filled_console().await else { return };
    for (path, seen) in [
        ("/", "Arrivals"),
        ("/ask?q=show+mean+of+level&over=2026-05-01+to+2026-05-02&per=1h", "window from"),
        ("/catalogue", "gauge"),
        ("/arrivals", "Choose a file"),
    ] {
        for night in [false, true] {
            browser.go(&format!("{}{path}", service.url)).await;
            browser.run(&format!("localStorage.setItem('fenetre-appearance', '{}')", if night { "dark" } else { "light" })).await;
            browser.page.refresh().await.unwrap();
            browser.read(seen).await;
            assert_eq!(browser.accessibility_findings().await, [""; 0], "{path}, night: {night}");
        }
    }
    browser.close().await;
}

/// Forty days of some metrics up to this hour, a point every so many seconds, all of them packed.
fn fill(service: &Service, metrics: &[&str], every: i64, copy: &std::path::Path) {
    let hour = jiff::Timestamp::now().as_second() / 3_600 * 3_600;
    let line = |(step, metric): (i64, &&str)| {
        let at = jiff::Timestamp::from_second(hour - step * every).unwrap();
        format!("{{\"metric\":\"{metric}\",\"tags\":{{\"lock\":\"osier\"}},\"time\":\"{at}\",\"value\":{step}}}\n")
    };
    let steps = (0..40 * 86_400 / every).flat_map(|step| metrics.iter().map(move |metric| (step, metric)));
    service.push_lines("main", &steps.map(line).collect::<String>());
    // A backup packs everything first.
    service.run(&["backup", &copy.display().to_string()]);
}

#[tokio::test]
async fn limits_preview_expiry_and_rollups_appear_on_the_timeline() {
    let Some((folder, service, browser)) = empty_console().await else { return };
    fill(&service, &["level"], 1_800, &folder.path().join("copy"));
    service.run(&["rollup", "set", "--level", "1h", "--level", "1d"]);
    browser.go(&format!("{}/keeping", service.url)).await;
    browser.read("Keeping main").await;
    browser.until("return document.querySelector('svg[role=img]')?.getAttribute('aria-label')", "main: points: no age limit").await;
    browser.read("100%").await;
    assert!(browser.text().await.contains("grows without limit"));
    assert_eq!(browser.accessibility_findings().await, [""; 0]);
    browser.press_button("Change").await;
    browser.type_into("keep for", "10d").await;
    browser.press_button("Preview").await;
    browser.read("would expire now").await;
    browser.read("Maximum size:").await;
    browser.press_button("Apply").await;
    browser.read("10d, runtime setting").await;
    // What went lies in the bin.
    browser.read("older than keep_for").await;
    browser.until("return document.querySelector('svg[role=img]')?.getAttribute('aria-label')", "main: points: kept for 10d").await;
    browser.press_button("Restore").await;
    browser.read("it would expire again at once").await;
    // Going back shows first what that would do, and can be left.
    browser.press_button("Use the inherited limit").await;
    browser.read("New limits: keep for no limit, built in").await;
    browser.press_button("Cancel").await;
    browser.press_button("Use the inherited limit").await;
    browser.press_button("Apply").await;
    browser.until("return document.querySelector('svg[role=img]')?.getAttribute('aria-label')", "main: points: no age limit").await;
    let binned = "return String(document.body.innerText.split('Restore').length - 1)";
    // The page may still show the list from before the limit.
    let before = service.get("/api/v1/bin").ok().as_array().unwrap().len();
    browser.until(binned, &before.to_string()).await;
    browser.press_button("Restore").await;
    browser.until(binned, &(before - 1).to_string()).await;
    browser.close().await;
}

#[tokio::test]
async fn a_metric_gets_its_own_limit_and_policies_are_created_and_dropped() {
    let Some((folder, service, browser)) = empty_console().await else { return };
    fill(&service, &["level", "flow"], 600, &folder.path().join("copy"));
    browser.go(&format!("{}/keeping", service.url)).await;
    browser.read("All metrics use the limits of the dataset").await;
    browser.read("journal, of all datasets").await;
    // A policy with every setting, previewed before it is created.
    browser.press_button("Create a policy").await;
    let levels = "return String([...document.querySelectorAll('input')].some((field) => field.value === '5m=90d 1h=2y 1d'))";
    browser.until(levels, "true").await;
    browser.type_into("metrics (* matches any text)", "lev*").await;
    browser.type_into("series where", "lock = \"osier\"").await;
    browser.type_into("zone of days", "Europe/Lisbon").await;
    browser.type_into("wait for late points", "1m").await;
    browser.press_button("Preview").await;
    browser.read("1 series of level").await;
    browser.read("smaller than points").await;
    browser.press_button("Apply").await;
    browser.read("level where lock = \"osier\", days of Europe/Lisbon; windows wait 1m for late points").await;
    browser.until("return String(document.body.innerText.split('100%').length)", "4").await;
    browser.press_button("Measure the speed-up").await;
    browser.read("faster").await;
    browser.read("show stddev of 'level' overall").await;
    // A metric's own limit, also on the ruler.
    browser.see("[aria-label='Limits of flow']").await.click().await.unwrap();
    browser.type_into("keep for", "10d").await;
    browser.press_button("Preview").await;
    browser.read("of 1 metric would expire now").await;
    browser.press_button("Apply").await;
    browser.read("With limits of their own: flow.").await;
    browser.read("flow before").await;
    let ruler = "return String((document.querySelector('svg[role=img]')?.getAttribute('aria-label') ?? '').includes('flow: 10d, runtime setting'))";
    browser.until(ruler, "true").await;
    for night in [false, true] {
        browser.run(&format!("localStorage.setItem('fenetre-appearance', '{}')", if night { "dark" } else { "light" })).await;
        browser.page.refresh().await.unwrap();
        browser.read("With limits of their own: flow.").await;
        browser.read("journal, of all datasets").await;
        assert_eq!(browser.accessibility_findings().await, [""; 0], "night: {night}");
    }
    // What cannot be taken back takes two presses.
    browser.press_button("Erase permanently").await;
    browser.press_button("Really erase it").await;
    browser.read("The bin is empty").await;
    browser.press_button("Drop").await;
    browser.press_button("Delete the policy").await;
    browser.read("Create a policy").await;
    browser.close().await;
}
