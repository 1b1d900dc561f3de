//! A PostgreSQL server of the tests' own, in a folder of its own. No root is needed; as root it runs as a user that may.
#![allow(dead_code, clippy::unwrap_used, clippy::panic, missing_docs)]

use std::os::unix::process::CommandExt;
use std::path::{Path, PathBuf};
use std::process::{Command, Stdio};

pub struct Server {
    dir: tempfile::TempDir,
    pub port: u16,
}

fn program(name: &str) -> PathBuf {
    let mut found: Vec<PathBuf> = std::fs::read_dir("/usr/lib/postgresql")
        .map(|d| {
            d.filter_map(|e| Some(e.ok()?.path().join("bin").join(name))).filter(|p| p.exists()).collect()
        })
        .unwrap_or_default();
    found.sort();
    found.pop().unwrap_or_else(|| name.into())
}

/// The user that a server runs as: not root, which it refuses.
fn unprivileged() -> Option<(u32, u32)> {
    if !rustix::process::geteuid().is_root() {
        return None;
    }
    let passwd = std::fs::read_to_string("/etc/passwd").unwrap();
    let of = |name: &str| {
        let line = passwd.lines().find(|l| l.starts_with(&format!("{name}:")))?;
        let mut fields = line.split(':').skip(2).map(|f| f.parse::<u32>().unwrap());
        Some((fields.next()?, fields.next()?))
    };
    of("postgres").or_else(|| of("nobody"))
}

fn run(program: &Path, args: &[&str]) -> std::process::Output {
    let mut command = Command::new(program);
    command.args(args).current_dir("/").stdin(Stdio::null());
    if let Some((uid, gid)) = unprivileged() {
        command.uid(uid).gid(gid);
    }
    command
        .output()
        .unwrap_or_else(|e| panic!("{}: {e}; scripts/test installs what is missing", program.display()))
}

impl Server {
    pub fn start() -> Self {
        Self::start_in(&memory())
    }

    /// In a folder in this one.
    pub fn start_in(place: &Path) -> Self {
        let dir = tempfile::Builder::new().prefix("hollow-mile-pg").tempdir_in(place).unwrap();
        if let Some((uid, gid)) = unprivileged() {
            std::os::unix::fs::chown(dir.path(), Some(uid), Some(gid)).unwrap();
        }
        let port = std::net::TcpListener::bind("127.0.0.1:0").unwrap().local_addr().unwrap().port();
        let server = Self { dir, port };
        let data = server.data();
        let made = run(
            &program("initdb"),
            &["-D", &data, "-U", "keeper", "-A", "trust", "--no-sync", "-E", "UTF8", "--locale", "C"],
        );
        assert!(made.status.success(), "{}", String::from_utf8_lossy(&made.stderr));
        let hba = "local all keeper trust\nhost all keeper 127.0.0.1/32 trust\nhost all keeper ::1/128 trust\nhost all keeper 10.77.0.0/16 trust\nhost all all 127.0.0.1/32 scram-sha-256\n";
        std::fs::write(Path::new(&data).join("pg_hba.conf"), hba).unwrap();
        server.up();
        server
    }

    fn data(&self) -> String {
        self.dir.path().join("data").display().to_string()
    }

    pub fn up(&self) {
        let options = format!(
            "-p {} -c listen_addresses=* -k {} -c fsync=off -c max_connections=200",
            self.port,
            self.dir.path().display()
        );
        let log = self.dir.path().join("log").display().to_string();
        let started = run(
            &program("pg_ctl"),
            &["-D", &self.data(), "-w", "-t", "60", "-l", &log, "-o", &options, "start"],
        );
        assert!(
            started.status.success(),
            "{} {}",
            String::from_utf8_lossy(&started.stderr),
            std::fs::read_to_string(log).unwrap_or_default()
        );
    }

    /// Stops it: `fast`, or `immediate`, as a crash would.
    pub fn down(&self, how: &str) {
        run(&program("pg_ctl"), &["-D", &self.data(), "-w", "-m", how, "stop"]);
    }

    pub fn url(&self, user: &str) -> String {
        format!("postgres://{user}@127.0.0.1:{}/postgres?sslmode=disable", self.port)
    }

    pub fn client(&self) -> postgres::Client {
        postgres::Client::connect(&self.url("keeper"), postgres::NoTls).unwrap()
    }

    /// One of PostgreSQL's own programs on this server, with something to read or nothing; what it wrote.
    pub fn tool(&self, name: &str, args: &[&str]) -> Vec<u8> {
        let port = self.port.to_string();
        let all = [&["-h", "127.0.0.1", "-p", &port, "-U", "keeper"], args].concat();
        let out = run(&program(name), &all);
        assert!(out.status.success(), "{name}: {}", String::from_utf8_lossy(&out.stderr));
        out.stdout
    }

    /// Gives a file to the user that the server runs as, and to nobody else.
    pub fn owned(&self, path: &Path) {
        std::fs::set_permissions(path, std::os::unix::fs::PermissionsExt::from_mode(0o600)).unwrap();
        if let Some((uid, gid)) = unprivileged() {
            std::os::unix::fs::chown(path, Some(uid), Some(gid)).unwrap();
        }
    }

    pub fn folder(&self) -> &Path {
        self.dir.path()
    }
}

/// In memory where there is room: what the disk does meanwhile is no part of a test.
fn memory() -> PathBuf {
    let shm = PathBuf::from("/dev/shm");
    let room = rustix::fs::statvfs(&shm).map_or(0, |s| s.f_bavail * s.f_frsize);
    if room > 1 << 30 { shm } else { std::env::temp_dir() }
}

impl Drop for Server {
    fn drop(&mut self) {
        self.down("immediate");
    }
}
