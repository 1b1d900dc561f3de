//! `hollow-mile vitals`: one health reading, and self-tests.

use crate::told::{drive, members, power};
use clap::ValueEnum;
use hollow_mile_core::drive::health::FIGURES;

use super::{Answer, say, say_json, table};
use crate::error::{AppError, Exit};
use crate::home;
use crate::machine::{self, HealthDocument};
use crate::targets::Target;

/// What to do with the drive's self-test.
#[derive(Debug, Clone, Copy, PartialEq, Eq, ValueEnum)]
pub enum SelfTestVerb {
    /// Start the short one
    Short,
    /// Start the extended one
    Extended,
    /// End the one that runs
    Abort,
}

pub fn run(drive: &str, self_test: Option<SelfTestVerb>, answer: Answer) -> Result<Exit, AppError> {
    let home = home::home()?;
    let target = Target::parse(drive)?;
    if let Some(verb) = self_test {
        let Target::Device(path) = &target else {
            return Err(AppError::usage(format!(
                "{drive} has no self-test to start here: a route with a selftest leg runs one on a simulated drive"
            )));
        };
        let extended = match verb {
            SelfTestVerb::Short => Some(false),
            SelfTestVerb::Extended => Some(true),
            SelfTestVerb::Abort => None,
        };
        machine::device(path, &home)?
            .prober
            .self_test(extended)
            .map_err(|e| AppError::usage(format!("{drive}: {e}")))?;
        eprintln!(
            "{}",
            match verb {
                SelfTestVerb::Abort => "the self-test was told to end",
                _ => "the self-test has begun; ask for the vitals again to see how far it is",
            }
        );
    }
    let (identity, health) = machine::health(&target, &home)?;
    if answer == Answer::Json {
        say_json(&HealthDocument::new(&identity, &health))?;
        return Ok(Exit::Done);
    }
    say(&format!(
        "{}  {}  {}  firmware {}",
        identity.target, identity.model, identity.serial, identity.firmware
    ))?;
    say(&drive::wellness(&health))?;
    if let Some(shortfall) = identity.link.as_ref().and_then(hollow_mile_core::drive::Link::shortfall) {
        say(&format!("Its link has less than it could: {shortfall}."))?;
    }
    let mut rows: Vec<Vec<String>> = Vec::new();
    for f in &FIGURES {
        if let Some(value) = (f.of)(&health.vitals) {
            rows.push(vec![f.name.into(), f.unit.words(value)]);
        }
    }
    for (name, t) in &health.temperatures {
        rows.push(vec![name.clone(), t.to_string()]);
    }
    if !rows.is_empty() {
        say(&table(&rows))?;
    }
    if let Some(zones) = &identity.zones {
        say(&zones.words())?;
        if let Some(now) = zones.conditions() {
            say(&format!("zones now: {now}"))?;
        }
    }
    if !health.members.is_empty() {
        let mut rows = vec![
            ["BUILT OF", "WHAT", "SERIAL", "CAPACITY", "LINK", "NOW", "USED"].map(String::from).to_vec(),
        ];
        rows.extend(health.members.iter().map(members::cells));
        say(&table(&rows))?;
    }
    for state in power::power_states(&health) {
        say(&format!("power state {state}"))?;
    }
    if !health.attributes.is_empty() {
        let mut rows = vec![["ATTRIBUTE", "VALUE", "WORST", "THRESHOLD", "RAW"].map(String::from).to_vec()];
        rows.extend(health.attributes.iter().map(|a| {
            let threshold = a.threshold.map_or_else(|| "none".into(), |t| t.to_string());
            let raw = format!("{:012X}h", a.raw);
            vec![a.id.to_string(), a.value.to_string(), a.worst.to_string(), threshold, raw]
        }));
        say(&table(&rows))?;
    }
    for line in drive::self_tests(&health) {
        say(&line)?;
    }
    for e in &health.errors {
        say(&format!("error {e}"))?;
    }
    for gap in &health.gaps {
        say(&format!("not known: {gap}"))?;
    }
    Ok(Exit::Done)
}
