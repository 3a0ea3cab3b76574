//! Takes the console's pictures for the documentation; run by `scripts/screenshots`, not by the tests.

#![allow(clippy::unwrap_used, reason = "a test may panic")]

#[path = "support/browser.rs"]
mod browser;
#[path = "support/mod.rs"]
mod support;

use browser::Browser;
use support::Service;

const LEVELS: &str = "per=15m&q=show+mean+of+level+where+reach+%3D+%22upper%22+and+side+%3D+%22up%22";

#[tokio::test]
#[ignore = "writes into docs/screenshots from a demo that runs"]
async fn the_console() {
    let demo = std::env::var("FENETRE_DEMO").expect("the URL of a running demo");
    let folder = concat!(env!("CARGO_MANIFEST_DIR"), "/../../docs/screenshots");
    let browser = Browser::open().await;
    // Of the window's height the browser keeps some for itself.
    browser.page.set_window_size(1280, 943).await.unwrap();
    let empty_store = tempfile::tempdir().unwrap();
    let empty = Service::start(empty_store.path());
    browser.go(&empty.url).await;
    browser.read("four steps").await;
    browser.picture(&format!("{folder}/first-start.png")).await;
    let shots = [
        ("overview", "/?dataset=velmar", "last ten minutes"),
        ("ask", &format!("/ask?dataset=velmar&{LEVELS}"), "window from"),
        ("catalogue", "/catalogue?dataset=velmar", "gauge"),
    ];
    for (name, path, seen) in shots {
        browser.go(&format!("{demo}{path}")).await;
        browser.read(seen).await;
        if name == "catalogue" {
            browser.press_button("level").await;
            browser.read("referred to by").await;
        }
        browser.picture(&format!("{folder}/{name}.png")).await;
    }
    // What is kept how long.
    browser.go(&format!("{demo}/keeping?dataset=velmar")).await;
    browser.until("return document.querySelector('svg[role=img]')?.getAttribute('aria-label')", "velmar: points").await;
    browser.read("100%").await;
    browser.picture(&format!("{folder}/keeping.png")).await;
    // The same a week ago, both in one chart; then what may come next, while somebody types.
    browser.go(&format!("{demo}/ask?dataset=velmar&over=last+24h&per=1h&q=show+growth+of+boats+overall")).await;
    browser.read("compare with").await;
    browser.press_button("1w earlier").await;
    browser.read("Combined chart").await;
    browser.read("1w earlier overall").await;
    browser.picture(&format!("{folder}/ask-compare.png")).await;
    browser.go(&format!("{demo}/ask?dataset=velmar")).await;
    browser.see(".cm-content").await.click().await.unwrap();
    browser.press("show p90 of lockage_time where lock = ").await;
    browser.read("series").await;
    // How long a chart of a hundred thousand points takes to draw, for the benchmarks.
    let five = "lock+in+%28%22osier%22%2C%22marl%22%2C%22wick%22%2C%22alder%22%2C%22tansy%22%29";
    browser.go(&format!("{demo}/ask?dataset=velmar&over=last+14d&q=show+points+of+flow+where+{five}")).await;
    browser.read("points read").await;
    browser.see("canvas").await;
    let drawn = "const all = performance.getEntriesByName('chart'); return `in ${all.map((one) => Math.round(one.duration)).join(', ')} ms`";
    println!(
        "a chart of {} was drawn {}",
        browser.run("return document.querySelector('[role=img]').getAttribute('aria-label')").await,
        browser.run(drawn).await
    );
    let keepers = concat!(env!("CARGO_MANIFEST_DIR"), "/../../docs/examples/keepers.csv");
    browser.go(&format!("{demo}/arrivals?dataset=main")).await;
    browser.see("input[type=file]").await.send_keys(&std::fs::canonicalize(keepers).unwrap().display().to_string()).await.unwrap();
    browser.read("Say what its columns are").await;
    browser.press_button("Dry run").await;
    browser.read("points that would be stored").await;
    browser.picture(&format!("{folder}/import-wizard.png")).await;
    browser.go(&format!("{demo}/arrivals?dataset=velmar")).await;
    browser.open_tab("Sources").await;
    browser.read("nothing listens there").await;
    browser.see("[aria-label='Details of locks']").await.click().await.unwrap();
    browser.read("the device is busy").await;
    browser.picture(&format!("{folder}/sources.png")).await;
    // The Access page. scripts/screenshots created and used the tokens.
    browser.go(&format!("{demo}/access")).await;
    browser.read("last used (UTC)").await;
    browser.picture(&format!("{folder}/access.png")).await;
    // The Sending page. scripts/screenshots defined the sinks.
    browser.go(&format!("{demo}/sending?dataset=velmar")).await;
    browser.read("nothing listens there").await;
    browser.see("[aria-label='Details of central']").await.click().await.unwrap();
    browser.read("at the destination").await;
    browser.press_button("Compare with the destination").await;
    browser.read("compared").await;
    browser.picture(&format!("{folder}/sending.png")).await;
    browser.close().await;
}
