//! The parts of the records, one a month in which hauls began: made ahead, spread over several servers where the fleet is, and let go as
//! the fleet's rule says. All of it is the work of who owns the tables; benches only add to what is there.
//!
//! On several servers a month is cut by a hash of the bench into foreign tables (`postgres_fdw`): a bench's records lie on one of them, and
//! while that one is away the other benches go on. What lists and batches of drives need stays on the fleet's own server.

use postgres::{Client, Transaction};
use serde::Serialize;

use super::thin::{Thinned, thin};
use super::{Address, FleetError, connected};

/// Months that are made ahead, and as many that have been: hauls are sent late, too.
const AHEAD: i32 = 12;
const BACK: i32 = 3;

/// A month of records.
struct Month {
    /// `2026_11`.
    name: String,
    /// Its first day, `2026-11-01`.
    from: String,
    /// The first day of the next one.
    to: String,
}

/// Months between two, both included, by the server's own calendar: `$1` and `$2` are months from now.
const MONTHS: &str = "
SELECT to_char(m, 'YYYY_MM'), m::DATE::TEXT, (m + INTERVAL '1 month')::DATE::TEXT
FROM generate_series(date_trunc('month', CURRENT_DATE) + $1::INTEGER * INTERVAL '1 month',
                     date_trunc('month', CURRENT_DATE) + $2::INTEGER * INTERVAL '1 month', INTERVAL '1 month') AS m
WHERE m >= COALESCE((SELECT let_go_before FROM hollow_mile.fleet), '-infinity')";

fn month(r: &postgres::Row) -> Month {
    Month { name: r.get(0), from: r.get(1), to: r.get(2) }
}

impl Month {
    fn table(&self) -> String {
        format!("hollow_mile.batch_{}", self.name)
    }

    /// The part of it that lies on the server at this place.
    fn part(&self, place: usize) -> String {
        format!("{}_{place}", self.table())
    }
}

/// Where records lie beside the fleet's own server, in the order of their places.
fn places(tx: &mut Transaction<'_>) -> Result<Vec<String>, postgres::Error> {
    let rows = tx.query("SELECT url FROM hollow_mile.spread ORDER BY place", &[])?;
    Ok(rows.iter().map(|r| r.get(0)).collect())
}

fn is_there(tx: &mut Transaction<'_>, table: &str) -> Result<bool, postgres::Error> {
    Ok(tx.query_one("SELECT to_regclass($1) IS NOT NULL", &[&table])?.get(0))
}

/// Columns of a part, its index, and bytes that are compressed already.
fn plain_table(table: &str) -> String {
    let short = table.trim_start_matches("hollow_mile.");
    format!(
        "CREATE TABLE IF NOT EXISTS {table} (month DATE NOT NULL, bench INTEGER NOT NULL, haul TEXT NOT NULL,
                                             seq BIGINT NOT NULL, bytes BYTEA NOT NULL);
         ALTER TABLE {table} ALTER COLUMN bytes SET STORAGE EXTERNAL;
         CREATE UNIQUE INDEX IF NOT EXISTS {short}_once ON {table} (bench, haul, seq);"
    )
}

/// The server at a place, which other programs may use for what they like: its tables lie in a schema of their own.
fn make_there(place: usize, url: &str, months: &[Month]) -> Result<(), FleetError> {
    let address: Address = url.parse()?;
    let mut client = address.connect()?;
    let sql: String = months.iter().map(|m| plain_table(&m.part(place))).collect();
    client
        .batch_execute(&format!("CREATE SCHEMA IF NOT EXISTS hollow_mile;{sql}"))
        .map_err(|e| FleetError::of(&e, &address))
}

/// Parts for this month, those ahead and some that have been, where there are none. How many were made.
pub(super) fn make(tx: &mut Transaction<'_>, address: &Address) -> Result<usize, FleetError> {
    let said = |e: postgres::Error| FleetError::of(&e, address);
    let mut lacking = Vec::new();
    for row in tx.query(MONTHS, &[&-BACK, &AHEAD]).map_err(said)? {
        let month = month(&row);
        if !is_there(tx, &month.table()).map_err(said)? {
            lacking.push(month);
        }
    }
    let places = places(tx).map_err(said)?;
    for (place, url) in places.iter().enumerate() {
        make_there(place, url, &lacking)?;
    }
    for month in &lacking {
        // What came before its month was made lies where all of that lies, and moves.
        let early = format!(
            "CREATE TEMP TABLE early ON COMMIT DROP AS
                 SELECT * FROM hollow_mile.batch_other WHERE month >= '{0}' AND month < '{1}';
             DELETE FROM hollow_mile.batch_other WHERE month >= '{0}' AND month < '{1}';",
            month.from, month.to
        );
        tx.batch_execute(&early).map_err(said)?;
        let (table, bounds) =
            (month.table(), format!("FOR VALUES FROM ('{}') TO ('{}')", month.from, month.to));
        let sql = if places.is_empty() {
            format!(
                "{} ALTER TABLE hollow_mile.batch ATTACH PARTITION {table} {bounds};",
                plain_table(&table)
            )
        } else {
            let mut sql = format!(
                "CREATE TABLE {table} PARTITION OF hollow_mile.batch {bounds} PARTITION BY HASH (bench);"
            );
            for place in 0..places.len() {
                let part = month.part(place);
                let short = part.trim_start_matches("hollow_mile.");
                sql.push_str(&format!(
                    "CREATE FOREIGN TABLE {part} PARTITION OF {table} FOR VALUES WITH (MODULUS {}, REMAINDER {place})
                     SERVER hollow_mile_{place} OPTIONS (schema_name 'hollow_mile', table_name '{short}');",
                    places.len()
                ));
            }
            sql
        };
        tx.batch_execute(&sql).map_err(said)?;
        tx.batch_execute("INSERT INTO hollow_mile.batch SELECT * FROM early; DROP TABLE early;")
            .map_err(said)?;
    }
    Ok(lacking.len())
}

/// For how long something holds.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Rule {
    /// For good.
    ForGood,
    /// So many days.
    Days(u32),
}

impl Rule {
    fn days(self) -> Option<i32> {
        match self {
            Self::ForGood => None,
            Self::Days(days) => Some(i32::try_from(days).unwrap_or(i32::MAX)),
        }
    }
}

/// What is changed of the fleet's rule; what is not stated stays.
#[derive(Debug, Clone, Copy, Default, PartialEq, Eq)]
pub struct Rules {
    /// How long records are kept, and then to the end of their month.
    pub records: Option<Rule>,
    /// How long all of their samples are.
    pub samples: Option<Rule>,
}

/// What was done.
#[derive(Debug, Clone, Default, PartialEq, Eq, Serialize)]
pub struct Tidied {
    /// Months that were made.
    pub made: usize,
    /// Months whose records went, `2026_01`.
    pub let_go: Vec<String>,
    /// Days that records are kept; for good without.
    pub records_days: Option<i32>,
    /// Days after which they are made smaller; never without.
    pub thin_days: Option<i32>,
    /// What was made smaller.
    pub thinned: Thinned,
}

/// Makes the coming months, lets records go that are older than the rule says, and makes those smaller that it says; a new rule is kept. Rows, figures, findings and
/// overviews of hauls stay.
///
/// # Errors
/// When the server does not let this user do so, or one at a place does not answer.
pub fn tidy(address: &Address, rules: Rules) -> Result<Tidied, FleetError> {
    try_tidy(address, rules).map_err(FleetError::of_owner)
}

fn try_tidy(address: &Address, rules: Rules) -> Result<Tidied, FleetError> {
    let mut client = connected(address)?;
    let said = |e: postgres::Error| FleetError::of(&e, address);
    let mut tx = client.transaction().map_err(said)?;
    for (column, rule) in [("records_days", rules.records), ("thin_days", rules.samples)] {
        if let Some(rule) = rule {
            let sql = format!("UPDATE hollow_mile.fleet SET {column} = $1");
            tx.execute(&sql, &[&rule.days()]).map_err(said)?;
        }
    }
    let now = tx.query_one("SELECT records_days, thin_days FROM hollow_mile.fleet", &[]).map_err(said)?;
    let let_go = let_go(&mut tx, address)?;
    let made = make(&mut tx, address)?;
    tx.commit().map_err(said)?;
    // Each haul for itself: what was made smaller so far stays so when it is stopped.
    let thinned = thin(address)?;
    Ok(Tidied { made, let_go, records_days: now.get(0), thin_days: now.get(1), thinned })
}

/// Months that ended so many days ago that none of their records is to be kept, and have none under way.
const OLD: &str = "
SELECT to_char(m, 'YYYY_MM'), m::DATE::TEXT, (m + INTERVAL '1 month')::DATE::TEXT
FROM hollow_mile.fleet f,
     generate_series((SELECT MIN(date_trunc('month', to_timestamp(started_unix_ms / 1000.0) AT TIME ZONE 'UTC')) FROM hollow_mile.haul),
                     CURRENT_DATE - f.records_days * INTERVAL '1 day' - INTERVAL '1 month', INTERVAL '1 month') AS m
WHERE f.records_days IS NOT NULL AND m >= COALESCE(f.let_go_before, '-infinity')
ORDER BY m";

fn let_go(tx: &mut Transaction<'_>, address: &Address) -> Result<Vec<String>, FleetError> {
    let said = |e: postgres::Error| FleetError::of(&e, address);
    let mut gone = Vec::new();
    for row in tx.query(OLD, &[]).map_err(said)? {
        let month = month(&row);
        let under_way = tx
            .query_one(
                "SELECT COUNT(*) FROM hollow_mile.haul WHERE state = 'running' AND changed_at > CURRENT_TIMESTAMP - INTERVAL '7 days'
                 AND to_timestamp(started_unix_ms / 1000.0) AT TIME ZONE 'UTC' < $1::TEXT::DATE",
                &[&month.to],
            )
            .map_err(said)?;
        // What comes after it stays as well: all before one day is gone, and nothing after it.
        if under_way.get::<_, i64>(0) > 0 {
            break;
        }
        for (place, url) in places(tx).map_err(said)?.into_iter().enumerate() {
            let there: Address = url.parse()?;
            let drop_it = format!("DROP TABLE IF EXISTS {}", month.part(place));
            there.connect()?.batch_execute(&drop_it).map_err(|e| FleetError::of(&e, &there))?;
        }
        tx.batch_execute(&format!("DROP TABLE IF EXISTS {}", month.table())).map_err(said)?;
        tx.execute("UPDATE hollow_mile.fleet SET let_go_before = $1::TEXT::DATE", &[&month.to])
            .map_err(said)?;
        gone.push(month.name);
    }
    // What was sent of months that had gone.
    tx.batch_execute(
        "DELETE FROM hollow_mile.batch_other WHERE month < (SELECT let_go_before FROM hollow_mile.fleet)",
    )
    .map_err(said)?;
    Ok(gone)
}

/// Where a fleet's records lie, and for how long.
#[derive(Debug, Clone, Default, PartialEq, Eq, Serialize)]
pub struct Records {
    /// The servers that they are spread over; none where all lie on the fleet's own.
    pub servers: Vec<String>,
    /// Days that they are kept; for good without.
    pub days: Option<i32>,
    /// The first day from which any are there, where some have gone.
    pub from: Option<String>,
}

/// Where records lie.
///
/// # Errors
/// When the server cannot be asked.
pub fn records(address: &Address) -> Result<Records, FleetError> {
    let mut client = connected(address)?;
    let said = |e: postgres::Error| FleetError::of(&e, address);
    let mut tx = client.transaction().map_err(said)?;
    let servers = places(&mut tx).map_err(said)?;
    let rule =
        tx.query_one("SELECT records_days, let_go_before::TEXT FROM hollow_mile.fleet", &[]).map_err(said)?;
    // A URL that was changed by hand is told as it stands.
    let server = |url: String| url.parse::<Address>().map_or(url, |a| a.server());
    Ok(Records { servers: servers.into_iter().map(server).collect(), days: rule.get(0), from: rule.get(1) })
}

/// What [`spread`] did.
#[derive(Debug, Clone, PartialEq, Eq, Serialize)]
pub struct Spread {
    /// Servers that keep records now.
    pub servers: usize,
    /// Months whose records lie there.
    pub months: usize,
    /// Months that have records already, and stay as they are.
    pub stay: Vec<String>,
}

/// A word of SQL between quotes.
fn quoted(text: &str) -> String {
    format!("'{}'", text.replace('\'', "''"))
}

/// Spreads records over these servers from now on: of this month where it has none yet, and of all that follow.
///
/// # Errors
/// When the fleet is spread already, a server does not answer or lets nobody in by a password, or this user may not make foreign tables.
pub fn spread(address: &Address, servers: &[Address]) -> Result<Spread, FleetError> {
    try_spread(address, servers).map_err(FleetError::of_owner)
}

fn try_spread(address: &Address, servers: &[Address]) -> Result<Spread, FleetError> {
    let mut client = connected(address)?;
    let said = |e: postgres::Error| FleetError::of(&e, address);
    let mut tx = client.transaction().map_err(said)?;
    if !places(&mut tx).map_err(said)?.is_empty() {
        return Err(FleetError::Spread);
    }
    tx.batch_execute("CREATE EXTENSION IF NOT EXISTS postgres_fdw").map_err(said)?;
    for (place, server) in servers.iter().enumerate() {
        // It is there, and lets us in: known before anything is changed.
        drop(server.connect()?);
        let password = server.known_password()?.map_or_else(
            || ", password_required 'false'".to_owned(),
            |p| format!(", password {}", quoted(&p)),
        );
        tx.batch_execute(&format!(
            "CREATE SERVER hollow_mile_{place} FOREIGN DATA WRAPPER postgres_fdw OPTIONS (host {}, port '{}', dbname {},
                 connect_timeout '5', tcp_user_timeout '10000', fetch_size '500', batch_size '100', async_capable 'true'{});
             CREATE USER MAPPING FOR PUBLIC SERVER hollow_mile_{place} OPTIONS (user {}{password});",
            quoted(&server.host()),
            server.port(),
            quoted(server.database()),
            server.foreign_options().iter().map(|(k, v)| format!(", {k} {}", quoted(v))).collect::<String>(),
            quoted(server.user()),
        ))
        .map_err(said)?;
        tx.execute(
            "INSERT INTO hollow_mile.spread (place, url) VALUES ($1, $2)",
            &[&(place as i32), &server.text()],
        )
        .map_err(said)?;
    }
    let mut stay = Vec::new();
    for row in tx.query(MONTHS, &[&-BACK, &AHEAD]).map_err(said)? {
        let month = month(&row);
        if !is_there(&mut tx, &month.table()).map_err(said)? {
            continue;
        }
        let any = format!("SELECT EXISTS (SELECT 1 FROM {})", month.table());
        if tx.query_one(&any, &[]).map_err(said)?.get(0) {
            stay.push(month.name);
        } else {
            tx.batch_execute(&format!("DROP TABLE {}", month.table())).map_err(said)?;
        }
    }
    let months = make(&mut tx, address)?;
    tx.commit().map_err(said)?;
    Ok(Spread { servers: servers.len(), months, stay })
}

/// The fleet's records began to lie as they do now with version 2: parts have an index of their own, since one over all of them can have
/// none on another server; and there is a rule for how long records are kept. Small tables are copied beside before; records are not touched.
pub(super) fn to_version_2(client: &mut Client, address: &Address) -> Result<(), FleetError> {
    let said = |e: postgres::Error| FleetError::of(&e, address);
    let mut tx = client.transaction().map_err(said)?;
    tx.batch_execute(
        "CREATE SCHEMA hollow_mile_version_1;
         CREATE TABLE hollow_mile_version_1.fleet AS TABLE hollow_mile.fleet;
         CREATE TABLE hollow_mile_version_1.bench AS TABLE hollow_mile.bench;
         CREATE TABLE hollow_mile_version_1.haul AS TABLE hollow_mile.haul;
         ALTER TABLE hollow_mile.batch DROP CONSTRAINT batch_pkey;",
    )
    .map_err(said)?;
    let parts = tx
        .query(
            "SELECT c.relname FROM pg_inherits i JOIN pg_class c ON c.oid = i.inhrelid
             WHERE i.inhparent = 'hollow_mile.batch'::REGCLASS",
            &[],
        )
        .map_err(said)?;
    for part in parts.iter().map(|r| r.get::<_, String>(0)) {
        tx.batch_execute(&format!(
            "CREATE UNIQUE INDEX {part}_once ON hollow_mile.{part} (bench, haul, seq)"
        ))
        .map_err(said)?;
    }
    tx.batch_execute(super::schema::NEW_IN_2).map_err(said)?;
    tx.batch_execute("UPDATE hollow_mile.fleet SET version = 2").map_err(said)?;
    if super::schema::has_roles(&mut tx).map_err(said)? {
        tx.batch_execute(super::schema::RIGHTS_IN_2).map_err(said)?;
    }
    tx.commit().map_err(said)
}
