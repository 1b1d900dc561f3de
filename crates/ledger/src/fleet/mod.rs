//! The fleet: the ledgers of many benches in one PostgreSQL.
//!
//! Each bench keeps its own ledger and hauls as before. What is committed there is noted in the ledger's outbox by the ledger itself
//! (triggers, in the same transaction), and a [`Sender`] takes it to the server: in order, once (a batch is known by bench, haul and number;
//! sending it twice changes nothing), what is under way first. A [`Mirror`] is a ledger of everything on the server, kept beside the bench's
//! own: heads, findings and digests of all hauls, and the records of those that were opened.

mod address;
pub(crate) mod mirror;
mod months;
mod outbox;
mod schema;
mod send;
mod thin;
mod tls;

use std::path::{Path, PathBuf};

use serde::{Deserialize, Serialize};

pub use address::Address;
pub use mirror::{Mirror, Pulled};
pub use months::{Records, Rule, Rules, Spread, Tidied, records, spread, tidy};
pub(crate) use outbox::TABLES as OUTBOX;
pub use schema::{Made, ROLES, init};
pub use send::{Sender, Sent};
pub use thin::Thinned;

use crate::LedgerError;

/// What went wrong with the fleet, and what to do.
#[derive(Debug, thiserror::Error)]
pub enum FleetError {
    /// The address is none, or what belongs to it is not there.
    #[error("the fleet's address cannot be used: {0}")]
    Address(String),
    /// Nobody answers.
    #[error(
        "no server answers at {server} ({why}): hauls go on, and what they commit is sent when it is back"
    )]
    NoServer {
        /// Where.
        server: String,
        /// The system's words.
        why: String,
    },
    /// The server does not know the user, or not by this password.
    #[error(
        "the server at {server} does not let {user} in ({why}): write the password into ~/.pgpass, or ask who keeps the server"
    )]
    NotLetIn {
        /// Where.
        server: String,
        /// As whom.
        user: String,
        /// The server's words.
        why: String,
    },
    /// The server does not allow it.
    #[error("the server at {server} does not allow {user} to do this ({why}): grant it {role}", role = ROLES[0])]
    NotAllowed {
        /// Where.
        server: String,
        /// To whom.
        user: String,
        /// The server's words.
        why: String,
    },
    /// Only who owns the tables may do it.
    #[error("the server at {server} does not allow {user} to do this ({why}): who made the fleet keeps it")]
    NotOwner {
        /// Where.
        server: String,
        /// To whom.
        user: String,
        /// The server's words.
        why: String,
    },
    /// There is no fleet on the server.
    #[error("there is no fleet at {0}: `hollow-mile fleet init URL` makes one")]
    NoFleet(String),
    /// The tables are of a newer program.
    #[error("the fleet has version {found}, this program knows {known}: use the newer program")]
    Newer {
        /// On the server.
        found: i32,
        /// In the program.
        known: i32,
    },
    /// The tables are of an older program.
    #[error(
        "the fleet has version {found}, this program needs {known}: `hollow-mile fleet init URL` brings it up to date"
    )]
    Older {
        /// On the server.
        found: i32,
        /// In the program.
        known: i32,
    },
    /// Its records lie on several servers already.
    #[error(
        "the fleet's records are spread over several servers already: `hollow-mile fleet status` names them"
    )]
    Spread,
    /// Another bench has the name.
    #[error("a bench named {0} is in the fleet already: give this one another name with --bench")]
    NameTaken(String),
    /// The server has forgotten this bench.
    #[error(
        "the server at {0} does not know this bench any more: `hollow-mile fleet leave`, then join again"
    )]
    Forgotten(String),
    /// This bench is in no fleet.
    #[error("this bench is in no fleet: `hollow-mile fleet join URL` joins one")]
    NotJoined,
    /// It sends nothing.
    #[error(
        "this bench only reads the fleet: `hollow-mile fleet leave`, then join without --only-read, to send its hauls"
    )]
    OnlyReads,
    /// It is in one already.
    #[error("this bench is in the fleet at {0} already: `hollow-mile fleet leave` leaves it")]
    Joined(String),
    /// The file that says where the fleet is cannot be read or written.
    #[error("{path}: {why}")]
    File {
        /// Which.
        path: String,
        /// What is wrong with it.
        why: String,
    },
    /// The ledger.
    #[error(transparent)]
    Ledger(#[from] LedgerError),
    /// Anything else that the server says.
    #[error("the server at {server} answered: {why}")]
    Server {
        /// Where.
        server: String,
        /// Its words.
        why: String,
    },
}

impl From<rusqlite::Error> for FleetError {
    fn from(e: rusqlite::Error) -> Self {
        Self::Ledger(e.into())
    }
}

impl FleetError {
    fn of(e: &postgres::Error, address: &Address) -> Self {
        let (server, user) = (address.server(), address.user().to_owned());
        let Some(db) = e.as_db_error() else {
            let mut why = e.to_string();
            let mut source = std::error::Error::source(e);
            while let Some(s) = source {
                why = format!("{why}: {s}");
                source = s.source();
            }
            return if why.contains("password missing") {
                Self::NotLetIn { server, user, why: "it asks for a password, and there is none".into() }
            } else {
                Self::NoServer { server, why }
            };
        };
        let why = db.message().to_owned();
        match db.code().code() {
            // Invalid authorization, invalid password, no such database (SQLSTATE classes 28 and 3D).
            code if code.starts_with("28") || code == "3D000" => Self::NotLetIn { server, user, why },
            "42501" => Self::NotAllowed { server, user, why },
            // Shutdown, crash, starting up, too many connections.
            code if code.starts_with("57P") || code == "53300" => Self::NoServer { server, why },
            _ => Self::Server { server, why },
        }
    }

    /// Of what is the work of who owns the tables.
    fn of_owner(self) -> Self {
        match self {
            Self::NotAllowed { server, user, why } => Self::NotOwner { server, user, why },
            e => e,
        }
    }

    /// It may be gone after a while: a server that does not answer, and not a wrong address.
    #[must_use]
    pub const fn may_pass(&self) -> bool {
        matches!(self, Self::NoServer { .. } | Self::Server { .. } | Self::Ledger(LedgerError::Busy))
    }
}

/// This bench in its fleet.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
#[serde(deny_unknown_fields)]
pub struct Membership {
    /// Where the server is; no password in it.
    pub url: String,
    /// This bench, for good: drawn when it joined.
    pub id: String,
    /// Its name.
    pub bench: String,
    /// Its number on the server.
    pub number: i32,
    /// It reads what the others haul, and sends nothing: for users that are readers or keepers, and no bench.
    #[serde(default, skip_serializing_if = "std::ops::Not::not")]
    pub only_reads: bool,
}

fn file(home: &Path) -> PathBuf {
    home.join("fleet.toml")
}

fn wrong_file(path: &Path, why: &dyn std::fmt::Display) -> FleetError {
    FleetError::File { path: path.display().to_string(), why: why.to_string() }
}

impl Membership {
    /// The membership of the bench in this folder; `None` of one that is in no fleet.
    ///
    /// # Errors
    /// When the file is there and cannot be read.
    pub fn read(home: &Path) -> Result<Option<Self>, FleetError> {
        let path = file(home);
        let text = match std::fs::read_to_string(&path) {
            Ok(text) => text,
            Err(e) if e.kind() == std::io::ErrorKind::NotFound => return Ok(None),
            Err(e) => return Err(wrong_file(&path, &e)),
        };
        toml::from_str(&text).map(Some).map_err(|e| wrong_file(&path, &e.message()))
    }

    /// Joins a fleet with this bench.
    ///
    /// # Errors
    /// When it is in one already, the name is taken, there is no fleet, or the server does not let it in.
    pub fn join(home: &Path, address: &Address, name: &str) -> Result<Self, FleetError> {
        if let Some(now) = Self::read(home)? {
            return Err(FleetError::Joined(now.url));
        }
        let mut client = connected(address)?;
        let said = |e: postgres::Error| FleetError::of(&e, address);
        let id = format!("{:016x}{:016x}", rand::random::<u64>(), rand::random::<u64>());
        let row = client
            .query_opt(
                // Who left may come back by the same name, and finds its hauls.
                "INSERT INTO hollow_mile.bench AS b (id, name, program) VALUES ($1, $2, $3)
                 ON CONFLICT (name) DO UPDATE SET id = excluded.id, left_at = NULL, joined_at = CLOCK_TIMESTAMP()
                 WHERE b.left_at IS NOT NULL RETURNING number",
                &[&id, &name, &env!("CARGO_PKG_VERSION")],
            )
            .map_err(said)?
            .ok_or_else(|| FleetError::NameTaken(name.to_owned()))?;
        let (url, number) = (address.text().to_owned(), row.get(0));
        Self { url, id, bench: name.to_owned(), number, only_reads: false }.keep(home)
    }

    /// Reads a fleet from here, and sends nothing to it.
    ///
    /// # Errors
    /// When this ledger's folder is in one already, there is no fleet, or the server does not let it in.
    pub fn join_to_read(home: &Path, address: &Address) -> Result<Self, FleetError> {
        if let Some(now) = Self::read(home)? {
            return Err(FleetError::Joined(now.url));
        }
        let mut client = connected(address)?;
        // Whether it may read at all is known now.
        client
            .query("SELECT 1 FROM hollow_mile.haul LIMIT 1", &[])
            .map_err(|e| FleetError::of(&e, address))?;
        let url = address.text().to_owned();
        Self { url, id: String::new(), bench: String::new(), number: 0, only_reads: true }.keep(home)
    }

    /// Writes it down, for this user alone.
    fn keep(self, home: &Path) -> Result<Self, FleetError> {
        let path = file(home);
        let write = || -> std::io::Result<()> {
            use std::io::Write;
            use std::os::unix::fs::OpenOptionsExt;
            std::fs::create_dir_all(home)?;
            let mut file =
                std::fs::OpenOptions::new().write(true).create_new(true).mode(0o600).open(&path)?;
            file.write_all(toml::to_string(&self).unwrap_or_default().as_bytes())?;
            file.sync_all()
        };
        write().map_err(|e| wrong_file(&path, &e))?;
        Ok(self)
    }

    /// Leaves the fleet: the server keeps what it has, and this bench sends nothing more. Says whether the server was told.
    ///
    /// # Errors
    /// When the bench is in none, or its file cannot be removed.
    pub fn leave(home: &Path) -> Result<bool, FleetError> {
        let now = Self::read(home)?.ok_or(FleetError::NotJoined)?;
        let told = now.address().and_then(|a| {
            if now.only_reads {
                return Ok(1);
            }
            let mut client = connected(&a)?;
            client
                .execute("UPDATE hollow_mile.bench SET left_at = CLOCK_TIMESTAMP() WHERE id = $1", &[&now.id])
                .map_err(|e| FleetError::of(&e, &a))
        });
        let path = file(home);
        std::fs::remove_file(&path).map_err(|e| wrong_file(&path, &e))?;
        Ok(told.is_ok_and(|n| n == 1))
    }

    /// Where its server is.
    ///
    /// # Errors
    /// When the file was changed to what is no address.
    pub fn address(&self) -> Result<Address, FleetError> {
        self.url.parse()
    }
}

/// A connection to a fleet of this version.
fn connected(address: &Address) -> Result<postgres::Client, FleetError> {
    let mut client = address.connect()?;
    match schema::version(&mut client, address)? {
        None => Err(FleetError::NoFleet(address.server())),
        Some(found) if found > schema::VERSION => Err(FleetError::Newer { found, known: schema::VERSION }),
        Some(found) if found < schema::VERSION => Err(FleetError::Older { found, known: schema::VERSION }),
        Some(_) => Ok(client),
    }
}

/// A bench as the server has it.
#[derive(Debug, Clone, PartialEq, Serialize)]
pub struct Bench {
    /// Its number.
    pub number: i32,
    /// Its name.
    pub name: String,
    /// It left.
    pub left: bool,
    /// How long ago it was heard of, s.
    pub seen_s: f64,
    /// Its clock less the server's, ms.
    pub clock_off_ms: i64,
    /// Its program.
    pub program: String,
    /// Hauls with something that was not sent when it was last heard of.
    pub unsent_hauls: i64,
    /// What stood in the way of sending, in its words.
    pub trouble: Option<String>,
    /// Hauls on the server.
    pub hauls: i64,
    /// Of them under way.
    pub running: i64,
    /// Bytes written by them.
    pub written_bytes: i64,
}

/// All benches, by name.
///
/// # Errors
/// When the server cannot be asked.
pub fn benches(address: &Address) -> Result<Vec<Bench>, FleetError> {
    let mut client = connected(address)?;
    let rows = client
        .query(
            "SELECT b.number, b.name, b.left_at IS NOT NULL, EXTRACT(EPOCH FROM CLOCK_TIMESTAMP() - b.seen_at)::FLOAT8,
                    b.clock_off_ms, b.program, b.unsent_hauls, b.trouble, COUNT(h.haul),
                    COUNT(h.haul) FILTER (WHERE h.state = 'running'), COALESCE(SUM(h.written_bytes), 0)::BIGINT
             FROM hollow_mile.bench b LEFT JOIN hollow_mile.haul h ON h.bench = b.number AND h.deleted_unix_ms IS NULL
             GROUP BY b.number ORDER BY b.name",
            &[],
        )
        .map_err(|e| FleetError::of(&e, address))?;
    let bench = |r: &postgres::Row| Bench {
        number: r.get(0),
        name: r.get(1),
        left: r.get(2),
        seen_s: r.get(3),
        clock_off_ms: r.get(4),
        program: r.get(5),
        unsent_hauls: r.get(6),
        trouble: r.get(7),
        hauls: r.get(8),
        running: r.get(9),
        written_bytes: r.get(10),
    };
    Ok(rows.iter().map(bench).collect())
}
