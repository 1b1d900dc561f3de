//! Tables of a fleet, and how an older server becomes a newer one. Plain SQL: no extension, nothing that one engine alone knows.
//!
//! | table | a row a | grows by |
//! |---|---|---|
//! | `hollow_mile.bench` | bench | joins |
//! | `hollow_mile.haul` | haul of a bench, with its digest | hauls; changed while one runs |
//! | `hollow_mile.batch` | commit of a haul, as the bench has it | added to alone; a part a month of hauls |
//! | `hollow_mile.overview` | long haul that is over | hauls |
//! | `hollow_mile.vitals` | haul, first and newest health | hauls |

use postgres::{Client, Transaction};

use super::{Address, FleetError, months};

/// In `hollow_mile.fleet`.
pub const VERSION: i32 = 2;

/// Who may do what: benches add and read, and change what is theirs; readers read; keepers change names, tags, notes and what is deleted.
pub const ROLES: [&str; 3] = ["hollow_mile_bench", "hollow_mile_reader", "hollow_mile_keeper"];

const TABLES: &str = "
CREATE SCHEMA hollow_mile;
CREATE TABLE hollow_mile.fleet (version INTEGER NOT NULL);
CREATE TABLE hollow_mile.bench (
    number INTEGER GENERATED ALWAYS AS IDENTITY PRIMARY KEY,
    id TEXT NOT NULL UNIQUE,
    name TEXT NOT NULL UNIQUE,
    owner TEXT NOT NULL DEFAULT CURRENT_USER,
    joined_at TIMESTAMPTZ NOT NULL DEFAULT CLOCK_TIMESTAMP(),
    left_at TIMESTAMPTZ,
    seen_at TIMESTAMPTZ NOT NULL DEFAULT CLOCK_TIMESTAMP(),
    clock_off_ms BIGINT NOT NULL DEFAULT 0,
    program TEXT NOT NULL DEFAULT '',
    unsent_hauls BIGINT NOT NULL DEFAULT 0,
    trouble TEXT
) WITH (fillfactor = 50);
CREATE TABLE hollow_mile.haul (
    bench INTEGER NOT NULL REFERENCES hollow_mile.bench (number),
    haul TEXT NOT NULL,
    drive TEXT NOT NULL,
    model TEXT NOT NULL,
    serial TEXT NOT NULL,
    route TEXT NOT NULL,
    state TEXT NOT NULL,
    reason TEXT,
    started_unix_ms BIGINT NOT NULL,
    elapsed_ns BIGINT NOT NULL,
    written_bytes BIGINT NOT NULL,
    read_bytes BIGINT NOT NULL,
    samples BIGINT NOT NULL,
    head TEXT NOT NULL,
    summary TEXT,
    findings TEXT,
    conditions TEXT,
    digest TEXT,
    limits TEXT,
    kept_samples BIGINT,
    label TEXT,
    tags TEXT,
    note TEXT,
    deleted_unix_ms BIGINT,
    edited_unix_ms BIGINT NOT NULL DEFAULT 0,
    batches BIGINT NOT NULL DEFAULT 0,
    changed_at TIMESTAMPTZ NOT NULL DEFAULT CLOCK_TIMESTAMP(),
    PRIMARY KEY (bench, haul)
) WITH (fillfactor = 70);
CREATE INDEX haul_by_change ON hollow_mile.haul (changed_at);
CREATE INDEX haul_by_drive ON hollow_mile.haul (serial);
CREATE TABLE hollow_mile.batch (
    month DATE NOT NULL,
    bench INTEGER NOT NULL,
    haul TEXT NOT NULL,
    seq BIGINT NOT NULL,
    bytes BYTEA NOT NULL
) PARTITION BY RANGE (month);
ALTER TABLE hollow_mile.batch ALTER COLUMN bytes SET STORAGE EXTERNAL;
CREATE TABLE hollow_mile.batch_other PARTITION OF hollow_mile.batch DEFAULT;
CREATE UNIQUE INDEX batch_other_once ON hollow_mile.batch_other (bench, haul, seq);
CREATE TABLE hollow_mile.overview (
    bench INTEGER NOT NULL,
    haul TEXT NOT NULL,
    bytes BYTEA NOT NULL,
    conclusions TEXT NOT NULL,
    program TEXT,
    PRIMARY KEY (bench, haul)
);
CREATE TABLE hollow_mile.vitals (
    bench INTEGER NOT NULL,
    haul TEXT NOT NULL,
    newest BOOLEAN NOT NULL,
    vitals TEXT NOT NULL,
    PRIMARY KEY (bench, haul, newest)
);
";

/// `records_days`: how long records are kept, for good without. `thin_days`: after how long they are made smaller, never without. `let_go_before`: the day before which none are there any more. `spread`: the
/// servers that records are spread over.
pub(super) const NEW_IN_2: &str = "
ALTER TABLE hollow_mile.fleet ADD COLUMN records_days INTEGER, ADD COLUMN thin_days INTEGER, ADD COLUMN let_go_before DATE;
CREATE TABLE hollow_mile.spread (place INTEGER PRIMARY KEY, url TEXT NOT NULL);
";

pub(super) const RIGHTS_IN_2: &str =
    "GRANT SELECT ON hollow_mile.spread TO hollow_mile_bench, hollow_mile_reader, hollow_mile_keeper;";

/// The roles of a fleet are there.
pub(super) fn has_roles(tx: &mut Transaction<'_>) -> Result<bool, postgres::Error> {
    Ok(tx.query_opt("SELECT 1 FROM pg_roles WHERE rolname = $1", &[&ROLES[0]])?.is_some())
}

/// What each role may do. Rows of other benches are closed to a bench by policies.
const RIGHTS: &str = "
GRANT USAGE ON SCHEMA hollow_mile TO hollow_mile_bench, hollow_mile_reader, hollow_mile_keeper;
GRANT SELECT ON ALL TABLES IN SCHEMA hollow_mile TO hollow_mile_bench, hollow_mile_reader, hollow_mile_keeper;
GRANT INSERT, UPDATE ON hollow_mile.bench, hollow_mile.haul, hollow_mile.overview, hollow_mile.vitals TO hollow_mile_bench;
GRANT INSERT, DELETE ON hollow_mile.batch TO hollow_mile_bench;
GRANT UPDATE (label, tags, note, deleted_unix_ms, edited_unix_ms, changed_at) ON hollow_mile.haul TO hollow_mile_keeper;
";

const OWN: &str = "bench IN (SELECT number FROM hollow_mile.bench b WHERE b.owner = CURRENT_USER)";

fn policies(tx: &mut Transaction<'_>) -> Result<(), postgres::Error> {
    for table in ["haul", "batch", "overview", "vitals"] {
        let sql = format!(
            "ALTER TABLE hollow_mile.{table} ENABLE ROW LEVEL SECURITY;
             CREATE POLICY seen ON hollow_mile.{table} FOR SELECT USING (TRUE);
             CREATE POLICY own ON hollow_mile.{table} FOR ALL TO hollow_mile_bench USING ({OWN}) WITH CHECK ({OWN});"
        );
        tx.batch_execute(&sql)?;
    }
    tx.batch_execute(
        "CREATE POLICY keeps ON hollow_mile.haul FOR UPDATE TO hollow_mile_keeper USING (TRUE) WITH CHECK (TRUE);
         ALTER TABLE hollow_mile.bench ENABLE ROW LEVEL SECURITY;
         CREATE POLICY seen ON hollow_mile.bench FOR SELECT USING (TRUE);
         CREATE POLICY own ON hollow_mile.bench FOR ALL TO hollow_mile_bench
             USING (owner = CURRENT_USER) WITH CHECK (owner = CURRENT_USER);",
    )
}

/// What [`init`] did.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Made {
    /// The tables, and roles for them.
    WithRoles,
    /// The tables; this user may not make roles, so whoever owns them does all.
    WithoutRoles,
    /// They were of an older program, and are of this one now.
    UpToDate,
    /// Nothing: they are there already.
    Nothing,
}

/// The version of a server's tables; `None` where there are none.
///
/// # Errors
/// When the server cannot be asked.
pub fn version(client: &mut Client, address: &Address) -> Result<Option<i32>, FleetError> {
    let said = |e: postgres::Error| FleetError::of(&e, address);
    let there = client.query_one("SELECT to_regclass('hollow_mile.fleet') IS NOT NULL", &[]).map_err(said)?;
    if !there.get::<_, bool>(0) {
        return Ok(None);
    }
    let row = client.query_opt("SELECT version FROM hollow_mile.fleet", &[]).map_err(said)?;
    Ok(row.map(|r| r.get(0)))
}

/// Makes the tables of a fleet, and the roles where this user may.
///
/// # Errors
/// When the server does not let this user do so, or has a newer fleet.
pub fn init(client: &mut Client, address: &Address) -> Result<Made, FleetError> {
    match version(client, address)? {
        Some(found) if found > VERSION => return Err(FleetError::Newer { found, known: VERSION }),
        Some(VERSION) => return Ok(Made::Nothing),
        Some(1) => return months::to_version_2(client, address).map(|()| Made::UpToDate),
        Some(found) => return Err(FleetError::Older { found, known: VERSION }),
        None => {}
    }
    let said = |e: postgres::Error| FleetError::of(&e, address);
    let mut tx = client.transaction().map_err(said)?;
    tx.batch_execute(TABLES).map_err(said)?;
    tx.batch_execute(NEW_IN_2).map_err(said)?;
    tx.execute("INSERT INTO hollow_mile.fleet (version) VALUES ($1)", &[&VERSION]).map_err(said)?;
    let may = tx
        .query_one("SELECT rolsuper OR rolcreaterole FROM pg_roles WHERE rolname = CURRENT_USER", &[])
        .map_err(said)?;
    let made = if may.get(0) {
        for role in ROLES {
            let there = tx.query_opt("SELECT 1 FROM pg_roles WHERE rolname = $1", &[&role]).map_err(said)?;
            if there.is_none() {
                tx.batch_execute(&format!("CREATE ROLE {role} NOLOGIN")).map_err(said)?;
            }
        }
        tx.batch_execute(RIGHTS).map_err(said)?;
        policies(&mut tx).map_err(said)?;
        Made::WithRoles
    } else {
        Made::WithoutRoles
    };
    months::make(&mut tx, address)?;
    tx.commit().map_err(said)?;
    Ok(made)
}
