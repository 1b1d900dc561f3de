//! What is done to hauls in the ledger afterwards: names, tags, notes, deletion, rescue of a damaged file.

use crate::told::tags::retagged;
use hollow_mile_core::quantity::text::named;
use hollow_mile_core::quantity::units::Bytes;
use hollow_mile_ledger::Purge;
use hollow_mile_ledger::{Ledger, rescue};

use super::{Answer, open_ledger, say, say_json};
use crate::error::{AppError, Exit};
use crate::home;

/// What is said of a haul.
#[derive(Debug, clap::Args)]
pub struct AnnotateArgs {
    /// A haul: id, unique beginning of one, or `last`
    haul: String,
    /// Its name; an empty one takes it away
    #[arg(long, value_name = "TEXT")]
    label: Option<String>,
    /// A tag for comparing, any number
    #[arg(long = "tag", value_name = "K=V", value_parser = super::tag)]
    tags: Vec<(String, String)>,
    /// Take a tag away, any number
    #[arg(long, value_name = "K")]
    untag: Vec<String>,
    /// A note; an empty one takes it away
    #[arg(long, value_name = "TEXT")]
    note: Option<String>,
    /// As JSON
    #[arg(long)]
    json: bool,
}

pub fn annotate(args: &AnnotateArgs) -> Result<Exit, AppError> {
    let ledger = open_ledger()?;
    let row = ledger.haul(&args.haul)?;
    let some = |t: &String| (!t.trim().is_empty()).then(|| t.trim().to_owned());
    if let Some(label) = &args.label {
        ledger.rename(&row.haul, some(label).as_deref())?;
    }
    if let Some(note) = &args.note {
        ledger.note(&row.haul, some(note).as_deref())?;
    }
    if !args.tags.is_empty() || !args.untag.is_empty() {
        if let Some(unknown) = args.untag.iter().find(|k| !row.conditions.tags.iter().any(|t| t.0 == **k)) {
            return Err(AppError::usage(format!("haul {} has no tag \"{}\"", row.haul, named(unknown))));
        }
        ledger.tag(&row.haul, &retagged(row.conditions.tags, &args.tags, &args.untag))?;
    }
    let row = ledger.haul(&row.haul)?;
    let tags: Vec<String> = row.conditions.tags.iter().map(|(k, v)| format!("{k}={v}")).collect();
    if args.json {
        say_json(
            &serde_json::json!({ "haul": row.haul, "label": row.label, "tags": tags, "note": row.note }),
        )?;
    } else {
        let or_none = |t: Option<String>| t.unwrap_or_else(|| "none".into());
        let tags = if tags.is_empty() { "none".into() } else { tags.join(", ") };
        say(&format!(
            "haul {}: label {}, tags {tags}, note {}",
            row.haul,
            or_none(row.label),
            or_none(row.note)
        ))?;
    }
    Ok(Exit::Done)
}

fn hauls_named(ledger: &Ledger, hauls: &[String]) -> Result<Vec<String>, AppError> {
    Ok(hauls
        .iter()
        .map(|h| Ok(ledger.haul(h)?.haul))
        .collect::<Result<_, hollow_mile_ledger::LedgerError>>()?)
}

pub fn delete(hauls: &[String], for_good: bool, answer: Answer) -> Result<Exit, AppError> {
    let ledger = open_ledger()?;
    let hauls = hauls_named(&ledger, hauls)?;
    ledger.delete(&hauls)?;
    let removed = if for_good { ledger.purge(Purge::All)? } else { 0 };
    if answer == Answer::Json {
        say_json(&serde_json::json!({ "deleted": hauls, "removed_for_good": removed }))?;
    } else if for_good {
        say(&format!("{removed} hauls removed for good, with their records"))?;
    } else {
        say(&format!(
            "{} deleted: `hollow-mile restore {}` puts them back, for thirty days",
            hauls.join(", "),
            hauls.join(" ")
        ))?;
    }
    Ok(Exit::Done)
}

pub fn restore(hauls: &[String], answer: Answer) -> Result<Exit, AppError> {
    let ledger = open_ledger()?;
    let deleted = ledger.deleted()?;
    let mut chosen = Vec::new();
    for given in hauls {
        let lower = given.to_lowercase();
        let found: Vec<&str> =
            deleted.iter().map(|r| r.haul.as_str()).filter(|h| h.starts_with(&lower)).collect();
        match found.as_slice() {
            [one] => chosen.push((*one).to_owned()),
            _ => {
                return Err(AppError::usage(format!(
                    "\"{}\" is not the beginning of one deleted haul: `hollow-mile ledger --deleted` lists them",
                    named(given)
                )));
            }
        }
    }
    ledger.restore(&chosen)?;
    if answer == Answer::Json {
        say_json(&serde_json::json!({ "restored": chosen }))?;
    } else {
        say(&format!("{} restored", chosen.join(", ")))?;
    }
    Ok(Exit::Done)
}

/// Makes the records of old hauls smaller.
pub fn compact(days: u32, answer: Answer) -> Result<Exit, AppError> {
    let before = jiff::Timestamp::now().as_millisecond() - i64::from(days) * 86_400_000;
    let done = open_ledger()?.compact(before)?;
    if answer == Answer::Json {
        say_json(&serde_json::json!({
            "hauls": done.hauls, "samples_before": done.samples_before, "samples_after": done.samples_after,
            "bytes_before": done.bytes_before, "bytes_after": done.bytes_after,
        }))?;
    } else if done.hauls.is_empty() {
        say(&format!(
            "nothing to compact: no haul of 1 000 samples or more that began more than {days} days ago"
        ))?;
    } else {
        say(&format!(
            "{} hauls compacted: {} samples of {} are left, the ledger has {} after {}; findings, figures and extremes are as they were",
            done.hauls.len(),
            done.samples_after,
            done.samples_before,
            Bytes::new(done.bytes_after),
            Bytes::new(done.bytes_before)
        ))?;
    }
    Ok(Exit::Done)
}

/// Saves what can be read of a damaged ledger.
pub fn save_what_can_be(answer: Answer) -> Result<Exit, AppError> {
    let home = home::home()?;
    // One that is whole is left alone.
    let damage = match Ledger::open(&home) {
        Ok(ledger) => ledger.damage()?,
        Err(hollow_mile_ledger::LedgerError::Damaged(_)) => true,
        Err(e) => return Err(e.into()),
    };
    if !damage {
        if answer == Answer::Json {
            say_json(&serde_json::json!({ "damaged": false }))?;
        } else {
            say("the ledger is whole: nothing was done")?;
        }
        return Ok(Exit::Done);
    }
    let (_, r) = rescue::rescue(&home)?;
    if answer == Answer::Json {
        let torn: Vec<_> =
            r.torn.iter().map(|(h, n)| serde_json::json!({ "haul": h, "missing_batches": n })).collect();
        say_json(&serde_json::json!({
            "damaged": true, "hauls": r.hauls, "torn": torn, "lost": r.lost, "unreadable_batches": r.unreadable, "aside": r.aside,
        }))?;
        return Ok(Exit::Done);
    }
    say(&format!("{} hauls saved; the damaged file is {}", r.hauls, r.aside.display()))?;
    for (haul, missing) in &r.torn {
        say(&match missing {
            0 => format!("haul {haul}: its record is lost; its figures and findings are there"),
            n => format!("haul {haul}: {n} parts of its record are lost"),
        })?;
    }
    for haul in &r.lost {
        say(&format!("haul {haul}: nothing says any more what it was; it is in the damaged file only"))?;
    }
    if r.torn.is_empty() {
        say("no record is torn")?;
    }
    Ok(Exit::Done)
}
