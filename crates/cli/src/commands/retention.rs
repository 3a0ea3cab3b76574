//! `fenetre retention` and `fenetre expire`

use fenetre_core::keeping::LimitSettings;
use fenetre_wire::retention::{ExpiryOrder, ExpiryPreview, OutlookInfo, PlaceInfo, RetentionChange, RetentionInfo, RetentionOrder};

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

/// Shows retention limits, or changes them.
pub fn run(args: RetentionArgs) -> Result<(), Failure> {
    let client = Client::of(&args.service)?;
    match args.command.unwrap_or(RetentionCommand::Show { place: None, output: ListOutput::Table }) {
        RetentionCommand::Show { place, output } => show(&client, place.as_deref(), output),
        RetentionCommand::Set { place, keep_for, keep_under, preview, yes } => {
            let limits = LimitSettings { keep_for: parse_limit(keep_for.as_deref())?, keep_under: parse_limit(keep_under.as_deref())? };
            change(&client, RetentionOrder { place, limits, reset: false, preview }, yes)
        }
        RetentionCommand::Reset { place, yes } => change(&client, RetentionOrder { place, reset: true, ..RetentionOrder::default() }, yes),
        RetentionCommand::WriteFile => {
            let written = client.write_retention()?;
            match written.places.as_slice() {
                [] => outln!("no runtime settings: {} is complete", written.file),
                places => outln!("wrote the limits of {} to {}", places.join(", "), written.file),
            }
            Ok(())
        }
        RetentionCommand::Restore { id } => {
            client.restore_binned(&id, None)?;
            outln!("restored {id}");
            Ok(())
        }
    }
}

/// A limit as typed; `none` removes it.
fn parse_limit<T: serde::de::DeserializeOwned>(text: Option<&str>) -> Result<Option<Option<T>>, Failure> {
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
        // The scope that a limit is inherited from is listed too, with where it was set.
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
        print_forecasts(&info.places);
        for place in &info.differing {
            outln!("\n{place}: the runtime setting differs from {}.", info.config_file.as_deref().unwrap_or("the configuration file"));
            outln!("`fenetre retention write-file` writes it to the file; `fenetre retention reset` removes it.");
        }
        info.warnings.iter().for_each(|warning| outln!("\n! {warning}"));
    }
    Ok(())
}

fn print_forecasts(places: &[PlaceInfo]) {
    for place in places {
        if let Some(outlook) = &place.outlook
            && place.kind == "dataset"
            && place.points > 0
        {
            outln!("\n{}", place.name);
            print_forecast(outlook);
            print_next(place);
        }
    }
}

/// Prints a forecast, one fact per line.
pub fn print_forecast(outlook: &OutlookInfo) {
    let size = |amount: f64| bytes(amount.max(0.0) as u64);
    let rolled = if outlook.rollup_bytes_a_day >= 1.0 { format!(", of which {} rollups", size(outlook.rollup_bytes_a_day)) } else { String::new() };
    outln!("  growth       {} per day ({} points{rolled})", size(outlook.bytes_a_day), grouped(outlook.points_a_day as u64));
    let limit = match (outlook.at_rest, &outlook.at_rest_from) {
        (Some(rest), Some(from)) => format!("stops growing at {} on {}", size(rest), day(from)),
        (Some(rest), None) => format!("no longer grows: {}", size(rest)),
        (None, _) => "grows without limit".to_owned(),
    };
    let beside = if outlook.at_rest.is_some() && outlook.beside_a_day >= 1.0 {
        format!("; then {} per day of rollups without a limit", size(outlook.beside_a_day))
    } else {
        String::new()
    };
    outln!("  forecast     {} in 30 days; {limit}{beside}", size(outlook.in_30_days));
    let reached = outlook.reached.as_ref().map(|reached| format!("reached on {}", day(reached)));
    let fits = outlook.days_that_fit.map(|days| match days < 730.0 {
        true => format!("fits {days:.0} days"),
        false => format!("fits {:.0} years", days / 365.0),
    });
    let of_limit: Vec<String> = reached.into_iter().chain(fits).collect();
    if !of_limit.is_empty() {
        outln!("  size limit   {}", of_limit.join("; "));
    }
    if let Some(recommended) = outlook.recommended.filter(|_| !outlook.arithmetic.is_empty()) {
        outln!("{}", paragraph(&format!("  recommended  {} = {}", size(recommended), outlook.arithmetic), "               "));
    }
}

fn change(client: &Client, order: RetentionOrder, yes: bool) -> Result<(), Failure> {
    let looked = client.set_retention(&RetentionOrder { preview: true, ..order.clone() })?;
    print_change(&looked);
    let name = if order.place.is_empty() { "store".to_owned() } else { order.place.clone() };
    // What takes nothing away need not be asked for.
    let is_harmless = looked.expires.parts.is_empty();
    if order.preview || !confirm(yes || is_harmless, "Apply this limit?", &name)? {
        return Ok(());
    }
    client.set_retention(&RetentionOrder { preview: false, ..order })?;
    outln!("{name}: applied; also in force after a restart");
    Ok(())
}

fn print_change(change: &RetentionChange) {
    let name = if change.after.name.is_empty() { "the store" } else { &change.after.name };
    let (before, after) = (&change.before, &change.after);
    for (what, before, after) in [("keep_for", &before.keep_for, &after.keep_for), ("keep_under", &before.keep_under, &after.keep_under)] {
        match before == after {
            true => outln!("{name}  {what:<10}  {}", after.text),
            false => outln!("{name}  {what:<10}  {}  (was: {})", after.text, before.text),
        }
    }
    print_expiry(&change.expires, "would expire now");
    print_next(after);
    if let Some(outlook) = &after.outlook {
        print_forecast(outlook);
    }
}

fn print_next(place: &PlaceInfo) {
    if let Some(next) = &place.next {
        let points = count_of(next.points, "point", "points");
        outln!("  next expiry  {} on {}: {points}, {}", next.what, day(&next.at), bytes(next.bytes));
    }
}

/// Applies retention now, or shows what would expire.
pub fn expire(args: &ExpireArgs) -> Result<(), Failure> {
    let departure = Client::of(&args.service)?.expire(&ExpiryOrder { dry_run: args.dry_run, accept_clock: args.accept_clock })?;
    print_expiry(&departure, if departure.done { "expired" } else { "would expire now" });
    if departure.done && departure.parts.iter().any(|part| !part.for_good) {
        outln!("see `fenetre bin`; `fenetre retention restore ID` restores it");
    }
    Ok(())
}

/// Maximum number of parts in the list.
const MAX_PARTS: usize = 12;

fn print_expiry(departure: &ExpiryPreview, verb: &str) {
    if departure.is_full {
        outln!("! the volume has less free space than its reserve, and nothing more can expire: no more points are accepted");
    }
    if departure.waiting > 0 {
        let partitions = count_of(departure.waiting, "partition is old enough to expire, but waits", "partitions are old enough to expire, but wait");
        outln!("{partitions} until rollups cover them (`fenetre rollup show`)");
    }
    if departure.parts.is_empty() {
        outln!("nothing {verb}");
        return;
    }
    let shown = if departure.parts.len() > MAX_PARTS { MAX_PARTS - 2 } else { departure.parts.len() };
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
        match place.kind.as_str() {
            "store" => "(store)".to_owned(),
            "metric" => format!("  {}", place.name),
            _ => place.name.clone(),
        }
    }
    vec![
        Column { name: "place", right: false, text: name, plain: |p| p.name.clone() },
        Column { name: "keep_for", right: false, text: |p| p.keep_for.text.clone(), plain: |p| p.keep_for.limit.clone().unwrap_or_default() },
        Column { name: "keep_under", right: false, text: |p| p.keep_under.text.clone(), plain: |p| p.keep_under.limit.clone().unwrap_or_default() },
        Column { name: "points", right: true, text: |p| grouped(p.points), plain: |p| p.points.to_string() },
        Column { name: "stored", right: true, text: |p| bytes(p.bytes), plain: |p| p.bytes.to_string() },
        Column {
            name: "oldest (UTC)",
            right: false,
            text: |p| p.oldest.as_deref().map_or("–", day).to_owned(),
            plain: |p| p.oldest.clone().unwrap_or_default(),
        },
    ]
}
