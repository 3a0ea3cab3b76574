//! `fenetre ask` and `fenetre at`

use std::{
    io::{self, IsTerminal, Read, Write},
    thread::sleep,
    time::Duration,
};

use fenetre_columnar::{write_arrow, write_parquet};
use fenetre_core::query::write_name;
use fenetre_formats::{
    document::AnswerDocument,
    tables::{write_csv, write_json_lines},
};
use fenetre_wire::ask::Question;

use crate::{
    args::{AnswerOutput, AskArgs, AtArgs, Target},
    client::Client,
    failure::{FAILED, Failure},
    output::{chart, plan, spark, table, terminal::width},
};

/// Clears the screen, and puts the cursor into its corner.
const CLEAR: &str = "\x1b[2J\x1b[H";

/// Asks, and writes the answer.
pub fn run(args: AskArgs) -> Result<(), Failure> {
    let query = match (&args.file, args.query) {
        (Some(file), _) => std::fs::read_to_string(file).map_err(|error| Failure::new(FAILED, format!("{}: {error}", file.display())))?,
        (None, Some(query)) if query == "-" => {
            let mut read = String::new();
            io::stdin().read_to_string(&mut read)?;
            read
        }
        (None, query) => query.unwrap_or_default(),
    };
    let zone = args.zone.map(|zone| format!("\"{zone}\""));
    let clauses = [("over", args.over), ("per", args.per), ("at", args.at), ("zone", zone), ("gaps", args.gaps)];
    let clauses: Vec<String> = clauses.into_iter().filter_map(|(word, value)| Some(format!("{word} {}", value?))).collect();
    let question = Question { query, frame: clauses.join(" "), tree: None };
    let client = Client::of(&args.target.service)?;
    if args.explain {
        let document = client.explain(&args.target.dataset, &question)?;
        match args.output {
            AnswerOutput::Json => outln!("{}", serde_json::to_string(&document)?),
            _ => out!("{}", plan::text(&document)),
        }
        return Ok(());
    }
    let Some(seconds) = args.watch else { return answer(&client, &args.target, &question, args.output, false) };
    loop {
        answer(&client, &args.target, &question, args.output, true)?;
        sleep(Duration::from_secs(seconds.max(1)));
    }
}

/// Asks for the values at a moment.
pub fn at(args: AtArgs) -> Result<(), Failure> {
    let AtArgs { selection, instant, taking, within, reduce, by, zone, output, target } = args;
    let show = match reduce {
        None => selection,
        Some(reducer) if by.is_empty() => format!("{reducer} of ({selection}) overall"),
        Some(reducer) => format!("{reducer} of ({selection}) by {}", by.iter().map(|tag| write_name(tag)).collect::<Vec<_>>().join(", ")),
    };
    let zone = zone.map(|zone| format!("\"{zone}\""));
    let clauses = [("taking", taking), ("within", within), ("zone", zone)];
    let clauses: String = clauses.into_iter().filter_map(|(word, value)| Some(format!(" {word} {}", value?))).collect();
    let question = Question { query: format!("show {show} at {instant}{clauses}"), ..Question::default() };
    answer(&Client::of(&target.service)?, &target, &question, output, false)
}

fn answer(client: &Client, target: &Target, question: &Question, output: AnswerOutput, clears: bool) -> Result<(), Failure> {
    let answer = client.ask(&target.dataset, question)?;
    let mut out = io::stdout().lock();
    if clears && out.is_terminal() {
        write!(out, "{CLEAR}")?;
    }
    write_answer(&answer, output, &mut out)?;
    out.flush()?;
    for note in &answer.notes {
        noteln!("note: {note}");
    }
    if matches!(output, AnswerOutput::Table | AnswerOutput::Chart | AnswerOutput::Spark) {
        noteln!("{}", table::cost(&answer));
    }
    Ok(())
}

fn write_answer(answer: &AnswerDocument, output: AnswerOutput, out: &mut io::StdoutLock<'_>) -> Result<(), Failure> {
    match output {
        AnswerOutput::Table => write!(out, "{}", table::tables(answer, width()))?,
        AnswerOutput::Chart => write!(out, "{}", chart::charts(answer, width(), io::stdout().is_terminal()))?,
        AnswerOutput::Spark => write!(out, "{}", spark::sparks(answer, width()))?,
        AnswerOutput::Json => writeln!(out, "{}", serde_json::to_string(answer)?)?,
        AnswerOutput::Csv => write_csv(answer, out)?,
        AnswerOutput::Ndjson => write_json_lines(answer, out)?,
        AnswerOutput::Arrow | AnswerOutput::Parquet if out.is_terminal() => {
            return Err(Failure::new(FAILED, "this output is not for a terminal: send it to a file or a program".to_owned()));
        }
        AnswerOutput::Arrow => write_arrow(answer, out)?,
        AnswerOutput::Parquet => {
            // The lock of the standard output stays on this thread.
            let mut bytes = Vec::new();
            write_parquet(answer, &mut bytes)?;
            out.write_all(&bytes)?;
        }
    }
    Ok(())
}
