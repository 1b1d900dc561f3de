//! Old records on the server, made smaller: fewer samples with the stated loss of [`crate::compact`]. What was concluded from the whole record
//! stays, and so do all extremes.

use hollow_mile_core::readings::{Readings, Thin};
use hollow_mile_core::record::Event;
use hollow_mile_core::record::bytes;
use postgres::Client;
use serde::Serialize;

use super::{Address, FleetError, connected};
use crate::compact::{BATCH, EACH, LEAST_SAMPLES};
use crate::{Ledger, overview, record_error};

/// Hauls of one answer.
const PAGE: i64 = 200;

/// What was made smaller.
#[derive(Debug, Clone, Copy, Default, PartialEq, Eq, Serialize)]
pub struct Thinned {
    /// Hauls.
    pub hauls: u64,
    /// Bytes of their records before, and after.
    pub bytes_before: u64,
    /// After.
    pub bytes_after: u64,
}

/// Hauls that are over, whose samples are all there, and that began longer ago than the rule says; the oldest first.
const DUE: &str = "
SELECT h.bench, h.haul, date_trunc('month', to_timestamp(h.started_unix_ms / 1000.0) AT TIME ZONE 'UTC')::DATE::TEXT
FROM hollow_mile.haul h, hollow_mile.fleet f
WHERE h.state <> 'running' AND h.kept_samples IS NULL AND h.samples >= $1 AND f.thin_days IS NOT NULL
  AND to_timestamp(h.started_unix_ms / 1000.0) < CURRENT_TIMESTAMP - f.thin_days * INTERVAL '1 day'
  AND to_timestamp(h.started_unix_ms / 1000.0) AT TIME ZONE 'UTC' >= COALESCE(f.let_go_before, '-infinity')
ORDER BY h.started_unix_ms, h.bench, h.haul OFFSET $2 LIMIT $3";

/// Makes the records smaller that the fleet's rule says. Each haul is changed as a whole or not at all; one whose record is not all there, or
/// cannot be read, stays as it is.
///
/// # Errors
/// When the server does not let this user do so.
pub(super) fn thin(address: &Address) -> Result<Thinned, FleetError> {
    let mut client = connected(address)?;
    let said = |e: postgres::Error| FleetError::of(&e, address);
    let (mut done, mut passed) = (Thinned::default(), 0_i64);
    loop {
        let due = client.query(DUE, &[&(LEAST_SAMPLES as i64), &passed, &PAGE]).map_err(said)?;
        if due.is_empty() {
            return Ok(done);
        }
        for row in due {
            let (bench, haul, month): (i32, String, String) = (row.get(0), row.get(1), row.get(2));
            match one(&mut client, address, bench, &haul, &month)? {
                Some((before, after)) => {
                    done.hauls += 1;
                    done.bytes_before += before;
                    done.bytes_after += after;
                }
                None => passed += 1,
            }
        }
    }
}

fn one(
    client: &mut Client,
    address: &Address,
    bench: i32,
    haul: &str,
    month: &str,
) -> Result<Option<(u64, u64)>, FleetError> {
    let said = |e: postgres::Error| FleetError::of(&e, address);
    let mut tx = client.transaction().map_err(said)?;
    let rows = tx
        .query(
            "SELECT seq, bytes FROM hollow_mile.batch WHERE month = $1::TEXT::DATE AND bench = $2 AND haul = $3 ORDER BY seq",
            &[&month, &bench, &haul],
        )
        .map_err(said)?;
    let (mut readings, mut thin, mut before, mut whole) = (Readings::new(), Thin::new(EACH), 0, false);
    for r in &rows {
        let bytes: &[u8] = r.get(1);
        before += bytes.len() as u64;
        let Ok(events) = bytes::decode(bytes, |json| serde_json::from_slice(json).map_err(|e| e.to_string()))
        else {
            return Ok(None);
        };
        for event in &events {
            whole |= matches!(event, Event::HaulEnded { .. });
            readings.push(event);
            thin.push(event);
        }
    }
    // What is still being sent is not looked at.
    if !whole {
        return Ok(None);
    }
    let why = |e: serde_json::Error| FleetError::Ledger(record_error(haul, 0, &e));
    let events = thin.finish();
    let left = events.iter().filter(|e| matches!(e, Event::Sample(_))).count() as u64;
    let batches: Vec<Vec<u8>> = events
        .chunks(BATCH)
        .map(|part| bytes::encode(part, serde_json::to_vec))
        .collect::<Result<_, _>>()
        .map_err(why)?;
    let after = batches.iter().map(|b| b.len() as u64).sum();
    let short = bytes::encode(&Ledger::overview_of(&events, left), serde_json::to_vec).map_err(why)?;
    let concluded = serde_json::to_string(&readings.conclude()).map_err(why)?;
    tx.execute(
        "DELETE FROM hollow_mile.batch WHERE month = $1::TEXT::DATE AND bench = $2 AND haul = $3",
        &[&month, &bench, &haul],
    )
    .map_err(said)?;
    for (seq, bytes) in batches.iter().enumerate() {
        tx.execute(
            "INSERT INTO hollow_mile.batch (month, bench, haul, seq, bytes) VALUES ($1::TEXT::DATE, $2, $3, $4, $5)",
            &[&month, &bench, &haul, &(seq as i64), bytes],
        )
        .map_err(said)?;
    }
    tx.execute(
        "INSERT INTO hollow_mile.overview (bench, haul, bytes, conclusions, program) VALUES ($1, $2, $3, $4, $5)
         ON CONFLICT (bench, haul) DO UPDATE SET bytes = excluded.bytes, conclusions = excluded.conclusions,
             program = excluded.program",
        &[&bench, &haul, &short, &concluded, &overview::PROGRAM],
    )
    .map_err(said)?;
    tx.execute(
        "UPDATE hollow_mile.haul SET kept_samples = $3, changed_at = CLOCK_TIMESTAMP() WHERE bench = $1 AND haul = $2",
        &[&bench, &haul, &(left as i64)],
    )
    .map_err(said)?;
    tx.commit().map_err(said)?;
    Ok(Some((before, after)))
}
