//! `fenetre ask`

use std::io::{self, IsTerminal, Read, Write};

use fenetre_formats::tables::{write_csv, write_json_lines};
use fenetre_service::api::ask::Question;

use crate::{
    args::{AnswerOutput, AskArgs},
    client::Client,
    failure::Failure,
    output::{chart, table},
};

const DEFAULT_WIDTH: u16 = 100;

/// Asks, and writes the answer.
pub fn run(args: AskArgs) -> Result<(), Failure> {
    let mut query = args.query;
    if query == "-" {
        query.clear();
        io::stdin().read_to_string(&mut query)?;
    }
    let clause = |word: &str, value: Option<String>| value.map_or(String::new(), |value| format!("{word} {value} "));
    let zone = args.zone.map(|zone| format!("\"{zone}\""));
    let frame = clause("over", args.over) + &clause("per", args.per) + &clause("zone", zone);
    let answer = Client::of(&args.target)?.ask(&args.target.dataset, &Question { query, frame: frame.trim_end().to_owned() })?;
    let mut out = io::stdout().lock();
    match args.output {
        AnswerOutput::Table => write!(out, "{}", table::tables(&answer, width()))?,
        AnswerOutput::Chart => write!(out, "{}", chart::charts(&answer, width(), io::stdout().is_terminal()))?,
        AnswerOutput::Json => writeln!(out, "{}", serde_json::to_string(&answer)?)?,
        AnswerOutput::Csv => write_csv(&answer, &mut out)?,
        AnswerOutput::Ndjson => write_json_lines(&answer, &mut out)?,
    }
    out.flush()?;
    for note in &answer.notes {
        eprintln!("note: {note}");
    }
    if matches!(args.output, AnswerOutput::Table | AnswerOutput::Chart) {
        eprintln!("{}", table::cost(&answer));
    }
    Ok(())
}

/// Columns of the terminal, or of what `COLUMNS` says.
fn width() -> u16 {
    let told = std::env::var("COLUMNS").ok().and_then(|columns| columns.parse().ok());
    told.or_else(|| comfy_table::Table::new().width().filter(|_| io::stdout().is_terminal())).unwrap_or(DEFAULT_WIDTH)
}
