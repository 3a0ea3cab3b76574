//! `fenetre demo`: a service with the Velmar Waterway in it, whose points arrive through the API like any others.

use std::{
    io::{self, BufWriter, Write},
    path::Path,
    sync::mpsc,
    thread,
    time::Duration,
};

use fenetre_core::{
    keeping::{ByteSize, LimitSettings},
    model::{DatasetDefinition, RollupLevel, RollupPolicy},
    time::{Nanos, SECOND, Span, format_utc, parse_rfc3339},
};
use fenetre_demo::{
    DemoPoint, Generator, Reading,
    generator::hour_of,
    waterway::{DATASET, ZONE, metrics, tags},
};
use fenetre_service::{Config, Ready, serve};
use fenetre_wire::retention::RetentionOrder;
use indicatif::{ProgressBar, ProgressStyle};

use super::demo_sources;
use crate::{
    args::{DemoRunArgs, DemoWriteArgs},
    client::Client,
    failure::{FAILED, Failure, WRONG},
    output::words::grouped,
    profiles::Profile,
};

/// Points of one push.
const PUSH_POINTS: usize = 50_000;
const DAY: Nanos = 86_400 * SECOND;

/// Serves the demo until it is stopped.
pub fn run(args: &DemoRunArgs) -> Result<(), Failure> {
    let mut config = Config { store: args.store.clone(), log_level: "warn".to_owned(), ..Config::default() };
    config.listen_on(&args.listen)?;
    if let Some(every) = &args.own {
        config.watch_itself(every)?;
    }
    if args.fresh {
        remove_store(&args.store)?;
    }
    let (sender, receiver) = mpsc::channel::<Ready>();
    let service = thread::spawn(move || serve(&config, |ready| drop(sender.send(ready))));
    let Ok(ready) = receiver.recv() else { return finished(service) };
    let url = format!("http://{}", ready.address);
    let played =
        Client::by(&Profile { url: url.clone(), token: None, ca: None, fingerprint: None }).and_then(|client| play(args, &client, &url, &service));
    if played.is_err() && !service.is_finished() {
        ready.stop();
    }
    finished(service)?;
    played
}

type Service = thread::JoinHandle<Result<(), fenetre_service::ServeError>>;

fn finished(service: Service) -> Result<(), Failure> {
    service.join().unwrap_or_else(|_| {
        Err(fenetre_service::ServeError::Listen { address: ([127, 0, 0, 1], 0).into(), source: io::Error::other("the service stopped unexpectedly") })
    })?;
    Ok(())
}

/// Removes a folder only if it is a store.
fn remove_store(path: &Path) -> Result<(), Failure> {
    if !path.exists() {
        return Ok(());
    }
    if !path.join("catalogue.db").exists() && path.read_dir().is_ok_and(|mut entries| entries.next().is_some()) {
        return Err(Failure::new(FAILED, format!("{} is not a store: it was left as it is", path.display())));
    }
    // The lock shows whether a service still uses it.
    let lock = std::fs::File::open(path.join("LOCK"));
    if lock.as_ref().is_ok_and(|lock| lock.try_lock().is_err()) {
        return Err(Failure::new(FAILED, format!("{} is in use: stop that service first", path.display())));
    }
    std::fs::remove_dir_all(path).map_err(|error| Failure::new(FAILED, format!("cannot remove {}: {error}", path.display())))
}

/// Fills the store up to now, says what to try, and lets points arrive each second until the service ends.
fn play(args: &DemoRunArgs, client: &Client, url: &str, service: &Service) -> Result<(), Failure> {
    let until = args.until.as_deref().map(instant).transpose()?;
    let (mut generator, from) = begin(args, until.unwrap_or_else(now), client)?;
    let count = fill(client, &mut generator, (from, until.unwrap_or_else(now)), service)?;
    if count > 0 {
        noteln!("stored {} points of the Velmar Waterway", grouped(count));
    }
    noteln!("{}", hints(url, &args.store));
    // The broker runs as long as the service.
    let _broker = if args.with_sources { demo_sources::define(client, &args.store, until.unwrap_or_else(now))? } else { None };
    while !service.is_finished() {
        if until.is_some() {
            thread::sleep(Duration::from_millis(100));
            continue;
        }
        let pushed = push_until(client, &mut generator, now(), Nanos::MIN, |_| {}, service);
        if let Err(failure) = pushed
            && !service.is_finished()
        {
            noteln!("live points wait: {failure}");
        }
        thread::sleep(Duration::from_secs(1) - Duration::from_nanos((now().rem_euclid(SECOND)).cast_unsigned()));
    }
    Ok(())
}

/// Says how long the waterway's points are kept.
fn keep(client: &Client) -> Result<(), Failure> {
    let days = |days: u32| Span { days, ..Span::default() };
    let limits = [
        (DATASET.to_owned(), LimitSettings { keep_for: Some(Some(days(400))), keep_under: Some(Some(ByteSize(2_000_000_000))) }),
        (format!("{DATASET}::turbidity"), LimitSettings { keep_for: Some(Some(days(60))), keep_under: None }),
    ];
    limits
        .into_iter()
        .try_for_each(|(place, limits)| client.set_retention(&RetentionOrder { place, limits, ..RetentionOrder::default() }).map(|_| ()))?;
    let exact = |minutes: i64| Span::exact(minutes * 60 * SECOND);
    let level = |width: Span, keep_for: Option<Span>| RollupLevel { width, keep_for };
    let years = |years: u32| Span { months: 12 * years, ..Span::default() };
    let levels = vec![level(exact(60), Some(years(2))), level(exact(360), Some(years(5))), level(days(1), None)];
    let policy = RollupPolicy { metrics: Vec::new(), condition: None, zone: None, levels, lateness: exact(10) };
    client.put_rollup(DATASET, "default", &policy, false).map(|_| ())
}

/// The generator of the store's waterway, and the first instant without points. A store with points is continued.
fn begin(args: &DemoRunArgs, until: Nanos, client: &Client) -> Result<(Generator, Nanos), Failure> {
    let known = client.datasets()?.into_iter().find(|dataset| dataset.name == DATASET);
    if let Some(dataset) = &known
        && let (Some(first), Some(last)) = (&dataset.stored.first, &dataset.stored.last)
    {
        let seed = dataset.definition.description.rsplit(' ').next().and_then(|seed| seed.parse().ok()).unwrap_or(args.seed);
        return Ok((Generator::new(seed, hour_of(instant(first)?)), instant(last)?));
    }
    let description = format!("The Velmar Waterway, made up from seed {}", args.seed);
    client.put_dataset(DATASET, &DatasetDefinition { zone: ZONE.to_owned(), description, ..DatasetDefinition::default() })?;
    for (name, definition) in metrics() {
        client.put_metric(DATASET, name, &definition, "")?;
    }
    for (key, definition) in tags() {
        client.put_tag(DATASET, key, &definition)?;
    }
    // A demo that stops at an instant is asked about that one for ever.
    if args.until.is_none() {
        keep(client)?;
    }
    let origin = hour_of(until - i64::from(args.days) * DAY);
    Ok((Generator::new(args.seed, origin), origin))
}

fn fill(client: &Client, generator: &mut Generator, (from, until): (Nanos, Nanos), service: &Service) -> Result<u64, Failure> {
    let seconds = ((until - from) / SECOND).max(1).cast_unsigned();
    let bar = ProgressBar::new(seconds);
    if let Ok(style) = ProgressStyle::with_template("{bar:32} filling the demo, {percent} %, {eta} left") {
        bar.set_style(style);
    }
    let count = push_until(client, generator, until, from, |at| bar.set_position(((at - from) / SECOND).max(0).cast_unsigned()), service)?;
    bar.finish_and_clear();
    Ok(count)
}

/// Pushes the points that arrive from `from` (earlier ones are skipped) until `until`, and returns how many.
fn push_until(
    client: &Client,
    generator: &mut Generator,
    until: Nanos,
    from: Nanos,
    progress: impl Fn(Nanos),
    service: &Service,
) -> Result<u64, Failure> {
    let (mut body, mut points, mut total) = (Vec::new(), 0, 0);
    while let Some(point) = generator.next_before(until) {
        if point.arrival < from {
            continue;
        }
        let arrival = point.arrival;
        write_line(&mut body, &point)?;
        points += 1;
        if points == PUSH_POINTS {
            push(client, &body)?;
            progress(arrival);
            total += points as u64;
            body.clear();
            points = 0;
            if service.is_finished() {
                return Ok(total);
            }
        }
    }
    if points > 0 {
        push(client, &body)?;
    }
    Ok(total + points as u64)
}

fn push(client: &Client, body: &[u8]) -> Result<(), Failure> {
    let report = client.push(DATASET, "application/x-ndjson", &[], body)?;
    match report.tally.rejects.first() {
        None => Ok(()),
        Some(reject) => Err(Failure::new(FAILED, format!("the service rejected a point of the demo: {}", reject.reason))),
    }
}

/// The point as a line of JSON. Its texts are the waterway's own and need no escapes.
fn write_line(out: &mut impl Write, point: &DemoPoint<'_>) -> io::Result<()> {
    write!(out, "{{\"metric\":\"{}\",\"tags\":{{", point.series.metric)?;
    for (i, (key, value)) in point.series.tags.iter().enumerate() {
        write!(out, "{}\"{key}\":\"{value}\"", if i > 0 { "," } else { "" })?;
    }
    write!(out, "}},\"time\":\"{}\",\"value\":", format_utc(point.time))?;
    match &point.reading {
        Reading::Number(number) => write!(out, "{number}")?,
        Reading::Word(word) => write!(out, "\"{word}\"")?,
        Reading::Histogram(histogram) => serde_json::to_writer(&mut *out, histogram)?,
        // The generator leaves silences out.
        Reading::Silence => write!(out, "null")?,
    }
    out.write_all(b"}\n")
}

/// Writes points of the waterway to standard output.
pub fn write(args: &DemoWriteArgs) -> Result<(), Failure> {
    let until = args.until.as_deref().map_or_else(|| Ok(now()), instant)?;
    let mut generator = Generator::new(args.seed, hour_of(until - i64::from(args.days) * DAY));
    let mut out = BufWriter::new(io::stdout().lock());
    while let Some(point) = generator.next_before(until) {
        match write_line(&mut out, &point) {
            // The reader closed the pipe: it has enough.
            Err(error) if error.kind() == io::ErrorKind::BrokenPipe => return Ok(()),
            other => other?,
        }
    }
    out.flush()?;
    Ok(())
}

fn instant(text: &str) -> Result<Nanos, Failure> {
    parse_rfc3339(text).map_err(|error| Failure::new(WRONG, error.to_string()))
}

fn now() -> Nanos {
    Nanos::try_from(jiff::Timestamp::now().as_nanosecond()).unwrap_or(Nanos::MAX)
}

fn hints(url: &str, store: &Path) -> String {
    let flag = if url == "http://127.0.0.1:7430" { String::new() } else { format!(" --url {url}") };
    format!(
        "\nFenetre is ready. Console: {url}\nThe store is {}; more points arrive every second.\n\nTry, in another terminal:\n  \
         fenetre ask{flag} --dataset {DATASET} 'show mean of level where reach = \"upper\" and side = \"up\" over last 24h per 15m' --output chart\n  \
         fenetre latest{flag} --dataset {DATASET} --metric gate\n  \
         fenetre storage{flag}\n\nStop with Ctrl-C. The next start continues with the same store.",
        store.display()
    )
}
