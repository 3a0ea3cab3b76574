//! `fenetre retention` and `fenetre expire`

use fenetre_core::keeping::Said;
use fenetre_service::{
    api::retention::{Departure, ExpiryOrder, RetentionChange, RetentionOrder},
    views::{
        outlook::OutlookInfo,
        retention::{PlaceInfo, RetentionInfo},
    },
};

use crate::{
    args::{ExpireArgs, ListOutput, RetentionArgs, RetentionCommand},
    client::Client,
    confirm::confirm,
    failure::{Failure, WRONG},
    output::{
        list::{Column, write},
        terminal::paragraph,
        words::{bytes, count_of, day, grouped, utc},
    },
};

/// Shows what holds, or changes it.
pub fn run(args: RetentionArgs) -> Result<(), Failure> {
    let client = Client::new(&args.service.url)?;
    match args.command.unwrap_or(RetentionCommand::Show { place: None, output: ListOutput::Table }) {
        RetentionCommand::Show { place, output } => show(&client, place.as_deref(), output),
        RetentionCommand::Set { place, keep_for, keep_under, preview, yes } => {
            let say = Said { keep_for: said(keep_for.as_deref())?, keep_under: said(keep_under.as_deref())? };
            change(&client, RetentionOrder { place, say, reset: false, preview }, yes)
        }
        RetentionCommand::Reset { place, yes } => change(&client, RetentionOrder { place, reset: true, ..RetentionOrder::default() }, yes),
        RetentionCommand::WriteFile => {
            let written = client.write_retention()?;
            match written.places.as_slice() {
                [] => outln!("nothing was set live: {} says it all", written.file),
                places => outln!("{} says it now, for {}", written.file, places.join(", ")),
            }
            Ok(())
        }
        RetentionCommand::Restore { id } => {
            client.restore_binned(&id, None)?;
            outln!("{id} is back");
            Ok(())
        }
    }
}

/// A limit as it was typed; `none` says that there is none.
fn said<T: serde::de::DeserializeOwned>(text: Option<&str>) -> Result<Option<Option<T>>, Failure> {
    match text {
        None => Ok(None),
        Some("none") => Ok(Some(None)),
        Some(text) => {
            let value = serde_json::Value::String(text.to_owned());
            serde_json::from_value(value).map(|limit| Some(Some(limit))).map_err(|error| Failure::new(WRONG, error.to_string()))
        }
    }
}

fn show(client: &Client, place: Option<&str>, output: ListOutput) -> Result<(), Failure> {
    let dataset = place.map(|place| place.split("::").next().unwrap_or_default());
    let mut info: RetentionInfo = client.retention(dataset)?;
    if let Some(place) = place {
        let of = |info: &PlaceInfo| info.name == place || (!place.contains("::") && info.name.starts_with(&format!("{place}::")));
        // A place that a limit is inherited from stands there too, with how it was said.
        let limits = info.places.iter().filter(|info| of(info)).flat_map(|info| [&info.keep_for.place, &info.keep_under.place]);
        let origins: Vec<String> = limits.flatten().cloned().collect();
        let is_origin = |info: &PlaceInfo| origins.iter().any(|origin| *origin == info.name || (info.name.is_empty() && origin == "the store"));
        info.places.retain(|info| of(info) || is_origin(info));
    }
    if output == ListOutput::Json {
        outln!("{}", serde_json::to_string_pretty(&info)?);
        return Ok(());
    }
    write(&info.places, &columns(), output)?;
    if output == ListOutput::Table {
        told_outlooks(&info.places);
        for place in &info.differing {
            outln!("\n{place}: what was set live differs from {}.", info.config_file.as_deref().unwrap_or("the configuration file"));
            outln!("`fenetre retention write-file` writes it there, `fenetre retention reset` goes back to the file.");
        }
        info.warnings.iter().for_each(|warning| outln!("\n! {warning}"));
    }
    Ok(())
}

fn told_outlooks(places: &[PlaceInfo]) {
    for place in places {
        if let Some(outlook) = &place.outlook
            && place.noun == "dataset"
            && place.points > 0
        {
            outln!();
            told_outlook(&format!("{}: ", place.name), outlook);
            told_next(place);
        }
    }
}

/// Tells what will be there, in a sentence or two.
pub fn told_outlook(lead: &str, outlook: &OutlookInfo) {
    let size = |amount: f64| bytes(amount.max(0.0) as u64);
    let rolled = if outlook.rollup_bytes_a_day >= 1.0 { format!(", {} of it rollups", size(outlook.rollup_bytes_a_day)) } else { String::new() };
    let points = grouped(outlook.points_a_day as u64);
    let mut text = format!("{} a day ({points} points{rolled}), {} in 30 days", size(outlook.bytes_a_day), size(outlook.in_30_days));
    match outlook.at_rest {
        Some(rest) => {
            text.push_str(&format!("; at rest {}", size(rest)));
            text.push_str(&outlook.at_rest_from.as_ref().map_or(String::new(), |from| format!(" from {}", day(from))));
        }
        None => text.push_str("; no limit, so it grows without end"),
    }
    if outlook.at_rest.is_some() && outlook.beside_a_day >= 1.0 {
        text.push_str(&format!(", and then {} a day of rollups that are kept for ever", size(outlook.beside_a_day)));
    }
    if let Some(reached) = &outlook.reached {
        text.push_str(&format!("; its size limit is reached on {}", day(reached)));
    }
    if let Some(days) = outlook.days_that_fit {
        text.push_str(&if days < 730.0 { format!("; {days:.0} days fit") } else { format!("; {:.0} years fit", days / 365.0) });
    }
    outln!("{}", paragraph(&format!("{lead}{text}"), "    "));
    if let Some(recommended) = outlook.recommended.filter(|_| outlook.bytes_a_day > 0.0) {
        outln!("{}", paragraph(&format!("  a size limit that would leave room: {}, since {}", size(recommended), outlook.arithmetic), "    "));
    }
}

fn change(client: &Client, order: RetentionOrder, yes: bool) -> Result<(), Failure> {
    let looked = client.set_retention(&RetentionOrder { preview: true, ..order.clone() })?;
    told_change(&looked);
    let name = if order.place.is_empty() { "store".to_owned() } else { order.place.clone() };
    // What takes nothing away need not be asked for.
    let is_harmless = looked.goes.parts.is_empty();
    if order.preview || !confirm(yes || is_harmless, "Set it?", &name)? {
        return Ok(());
    }
    client.set_retention(&RetentionOrder { preview: false, ..order })?;
    outln!("{name}: in force now, and after a restart");
    Ok(())
}

fn told_change(change: &RetentionChange) {
    let name = if change.after.name.is_empty() { "the store" } else { &change.after.name };
    let (before, after) = (&change.before, &change.after);
    for (what, before, after) in [("keep_for", &before.keep_for, &after.keep_for), ("keep_under", &before.keep_under, &after.keep_under)] {
        match before == after {
            true => outln!("{name}  {what:<10}  {}", after.told),
            false => outln!("{name}  {what:<10}  {}  (was: {})", after.told, before.told),
        }
    }
    told_departure(&change.goes, "would go now");
    told_next(after);
    if let Some(outlook) = &after.outlook {
        told_outlook("then: ", outlook);
    }
}

fn told_next(place: &PlaceInfo) {
    if let Some(next) = &place.next {
        let points = count_of(next.points, "point", "points");
        outln!("  next by age, on {}: {} as a whole, {points}, {}", day(&next.at), next.what, bytes(next.bytes));
    }
}

/// Lets go at once, or shows what would go.
pub fn expire(args: &ExpireArgs) -> Result<(), Failure> {
    let departure = Client::new(&args.service.url)?.expire(&ExpiryOrder { dry_run: args.dry_run, accept_clock: args.accept_clock })?;
    told_departure(&departure, if departure.done { "went" } else { "would go now" });
    if departure.done && departure.parts.iter().any(|part| !part.for_good) {
        outln!("`fenetre bin` lists it, `fenetre retention restore ID` brings it back");
    }
    Ok(())
}

/// So many parts are listed.
const MOST_PARTS: usize = 12;

fn told_departure(departure: &Departure, verb: &str) {
    if departure.is_full {
        outln!("! the reserve of the volume is touched, and nothing is left that could go: no more points are taken");
    }
    if departure.waiting > 0 {
        let partitions = count_of(departure.waiting, "partition is old enough, and waits", "partitions are old enough, and wait");
        outln!("{partitions} until rollups tell of them (`fenetre rollup show`)");
    }
    if departure.parts.is_empty() {
        outln!("nothing {verb}");
        return;
    }
    let shown = if departure.parts.len() > MOST_PARTS { MOST_PARTS - 2 } else { departure.parts.len() };
    for part in &departure.parts[..shown] {
        let fate = if part.for_good { "for good" } else { "to the bin" };
        outln!("  {}  {}  {}, {fate}", part.what, bytes(part.bytes), part.why);
    }
    if let Some(last) = departure.parts[shown..].last() {
        outln!("  … and {} more, the last of them {}", departure.parts.len() - shown, last.what);
    }
    let span = departure.span.as_ref().map_or(String::new(), |(first, last)| format!(", from {} to {} (UTC)", utc(Some(first)), utc(Some(last))));
    let points = count_of(departure.points, "point", "points");
    outln!("{verb}: {points}, {} of {}{span}", bytes(departure.bytes), count_of(departure.metrics.len() as u64, "metric", "metrics"));
}

fn columns() -> Vec<Column<PlaceInfo>> {
    fn name(place: &PlaceInfo) -> String {
        match place.noun.as_str() {
            "store" => "(store)".to_owned(),
            "metric" => format!("  {}", place.name),
            _ => place.name.clone(),
        }
    }
    vec![
        Column { name: "place", right: false, told: name, plain: |p| p.name.clone() },
        Column { name: "keep_for", right: false, told: |p| p.keep_for.told.clone(), plain: |p| p.keep_for.limit.clone().unwrap_or_default() },
        Column { name: "keep_under", right: false, told: |p| p.keep_under.told.clone(), plain: |p| p.keep_under.limit.clone().unwrap_or_default() },
        Column { name: "points", right: true, told: |p| grouped(p.points), plain: |p| p.points.to_string() },
        Column { name: "stored", right: true, told: |p| bytes(p.bytes), plain: |p| p.bytes.to_string() },
        Column { name: "oldest (UTC)", right: false, told: |p| utc(p.oldest.as_ref()), plain: |p| p.oldest.clone().unwrap_or_default() },
    ]
}
