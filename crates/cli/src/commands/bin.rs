//! `fenetre bin` and `fenetre points`: deleting and restoring.

use fenetre_wire::{
    bin::{BinItemInfo, Deletion, PointsOrder},
    datasets::Reference,
};

use crate::{
    args::{BinArgs, BinCommand, PointsCommand},
    client::Client,
    confirm::confirm,
    failure::Failure,
    output::{
        list::{Column, write},
        words::{bytes, count_of, grouped, minute, utc},
    },
};

/// Lists the bin, or restores or erases something in it.
pub fn run(args: BinArgs) -> Result<(), Failure> {
    let client = Client::of(&args.service)?;
    match args.command {
        None => write(&client.bin()?, &columns(), args.output),
        Some(BinCommand::Restore { id, name }) => {
            client.restore_binned(&id, name)?;
            outln!("restored {id}");
            Ok(())
        }
        Some(BinCommand::Erase { id, yes }) => {
            if confirm(yes, &format!("Erase {id} for good?"), &id)? {
                client.erase_binned(&id)?;
                outln!("{id} is erased");
            }
            Ok(())
        }
    }
}

/// Deletes points.
pub fn points(command: PointsCommand) -> Result<(), Failure> {
    let PointsCommand::Delete { metric, condition, from, to, yes, dry_run, target } = command;
    let client = Client::of(&target.service)?;
    let order = |dry_run| PointsOrder { metric: metric.clone(), condition: condition.clone(), from: from.clone(), to: to.clone(), dry_run };
    let preview = client.delete_points(&target.dataset, &order(true))?;
    print_deletion(&preview);
    if preview.stored.points == 0 || dry_run || !confirm(yes, &format!("Delete these points of {metric}?"), &metric)? {
        return Ok(());
    }
    let deletion = client.delete_points(&target.dataset, &order(false))?;
    let until = utc(deletion.recoverable_until.as_ref());
    outln!(
        "{} in the bin until {until} (UTC): `fenetre bin restore {}` restores them",
        count_of(deletion.stored.points, "point is", "points are"),
        deletion.id.unwrap_or_default()
    );
    Ok(())
}

/// Prints what would be deleted.
pub fn print_deletion(deletion: &Deletion) {
    let held = &deletion.stored;
    outln!("{}", deletion.what);
    outln!("{} in {} series, {}", count_of(held.points, "point", "points"), grouped(deletion.series), bytes(deletion.bytes));
    if held.points > 0 {
        outln!("from {} to {} (UTC)", utc(held.first.as_ref()), utc(held.last.as_ref()));
    }
    print_references(&deletion.references);
}

/// Prints what refers to it.
pub fn print_references(references: &[Reference]) {
    for reference in references {
        outln!("{} {}: {}", reference.kind, reference.name, reference.how);
    }
}

fn columns() -> Vec<Column<BinItemInfo>> {
    vec![
        Column { name: "id", right: false, text: |b| b.id.clone(), plain: |b| b.id.clone() },
        Column { name: "what", right: false, text: |b| format!("{} {}", b.kind, b.what), plain: |b| b.what.clone() },
        Column { name: "dataset", right: false, text: |b| b.dataset.clone(), plain: |b| b.dataset.clone() },
        Column { name: "series", right: true, text: |b| grouped(b.series), plain: |b| b.series.to_string() },
        Column {
            name: "points",
            right: true,
            text: |b| b.points.map_or("all".into(), grouped),
            plain: |b| b.points.map_or(String::new(), |points| points.to_string()),
        },
        Column { name: "deleted (UTC)", right: false, text: |b| minute(Some(&b.deleted)), plain: |b| b.deleted.clone() },
        Column { name: "erased (UTC)", right: false, text: |b| minute(Some(&b.erased)), plain: |b| b.erased.clone() },
    ]
}
