//! What the end-to-end tests share: the program in a home of its own, by itself or in a terminal.
#![allow(dead_code, clippy::unwrap_used, clippy::panic, missing_docs)]

use std::path::{Path, PathBuf};
use std::process::{Command, Output};
use std::sync::OnceLock;
use std::sync::atomic::{AtomicU32, Ordering};
use std::time::{Duration, Instant};

use serde_json::Value;
use tempfile::TempDir;

pub const PROGRAM: &str = env!("CARGO_BIN_EXE_hollow-mile");

/// The program with a ledger that nobody else uses.
pub struct Bench {
    pub dir: TempDir,
}

impl Bench {
    pub fn new() -> Self {
        Self { dir: tempfile::tempdir().unwrap() }
    }

    pub fn path(&self, name: &str) -> String {
        self.dir.path().join(name).display().to_string()
    }

    pub fn command(&self, args: &[&str]) -> Command {
        let mut c = Command::new(PROGRAM);
        c.args(args).env("HOLLOW_MILE_HOME", self.dir.path().join("home")).current_dir(self.dir.path());
        c
    }

    pub fn run(&self, args: &[&str]) -> Output {
        self.command(args).output().unwrap()
    }

    /// Runs, expects success, and reads the JSON.
    pub fn json(&self, args: &[&str]) -> Value {
        let out = self.run(args);
        let error = String::from_utf8_lossy(&out.stderr);
        assert_eq!(out.status.code(), Some(0), "{args:?}: {error}");
        serde_json::from_slice(&out.stdout).unwrap_or_else(|e| panic!("{args:?}: {e}"))
    }

    /// Runs, expects this exit code, and gives the one sentence on standard error.
    pub fn refusal(&self, args: &[&str], code: i32) -> String {
        let out = self.run(args);
        let error = String::from_utf8_lossy(&out.stderr).into_owned();
        assert_eq!(out.status.code(), Some(code), "{args:?}: {error}");
        assert!(!error.contains("panicked"), "{args:?}: {error}");
        error
    }
}

/// Puts a copy of the demo's ledger into a folder. It is made once for all test programs of a build.
pub fn put_demo(into: &Path) {
    static MADE: OnceLock<PathBuf> = OnceLock::new();
    let made = MADE.get_or_init(|| {
        let built = std::fs::metadata(PROGRAM).unwrap().modified().unwrap();
        let built = built.duration_since(std::time::UNIX_EPOCH).unwrap().as_nanos();
        let folder = Path::new(env!("CARGO_TARGET_TMPDIR"));
        let whole = folder.join(format!("demo-{built}"));
        if !whole.exists() {
            for old in std::fs::read_dir(folder).unwrap().flatten() {
                if old.file_name().to_string_lossy().starts_with("demo-") {
                    let _ = std::fs::remove_dir_all(old.path());
                }
            }
            let making = tempfile::tempdir_in(folder).unwrap();
            hollow_mile::demo::prepare(making.path()).unwrap();
            std::fs::rename(making.path(), &whole).unwrap();
        }
        whole
    });
    std::fs::create_dir_all(into).unwrap();
    // Folders in it are of hauls that run, and there are none.
    let files = std::fs::read_dir(made).unwrap().flatten().filter(|f| f.path().is_file());
    files.for_each(|f| {
        std::fs::copy(f.path(), into.join(f.file_name())).unwrap();
    });
}

/// Waits until something is so.
pub fn wait_until(what: &str, mut so: impl FnMut() -> bool) {
    let began = Instant::now();
    while !so() {
        assert!(began.elapsed() < Duration::from_secs(60), "waited a minute for {what}");
        std::thread::sleep(Duration::from_millis(30));
    }
}

/// The program in a terminal of tmux.
pub struct Terminal {
    socket: String,
}

impl Terminal {
    pub fn start(bench: &Bench, args: &str, width: u16, height: u16) -> Self {
        Self::start_with(bench, "HM=1", args, width, height)
    }

    /// What the terminal's line discipline is set to.
    pub fn modes(&self) -> String {
        let tty = self.tmux(&["display", "-p", "#{pane_tty}"]);
        let out = Command::new("stty").args(["-a", "-F", tty.trim()]).output().unwrap();
        String::from_utf8_lossy(&out.stdout).into_owned()
    }

    pub fn start_with(bench: &Bench, env: &str, args: &str, width: u16, height: u16) -> Self {
        Self::start_in(bench, &format!("{env} TERM=tmux-256color"), args, width, height)
    }

    /// In a terminal that calls itself so.
    pub fn start_as(bench: &Bench, term: &str, args: &str, width: u16, height: u16) -> Self {
        Self::start_in(bench, &format!("TERM={term}"), args, width, height)
    }

    fn start_in(bench: &Bench, env: &str, args: &str, width: u16, height: u16) -> Self {
        // A server of its own each time: one that was told to end may not have ended yet.
        static STARTED: AtomicU32 = AtomicU32::new(0);
        let number = STARTED.fetch_add(1, Ordering::Relaxed);
        let dir = bench.dir.path().file_name().unwrap().to_string_lossy();
        let socket = format!("hm-{}-{number}-{dir}", std::process::id());
        let home = bench.dir.path().join("home");
        let command = format!(
            "cd {} && env {env} HOLLOW_MILE_HOME={} {PROGRAM} {args} 2>{}; echo \"left with $?\"; sleep 60",
            bench.dir.path().display(),
            home.display(),
            bench.path("stderr")
        );
        let ok = Command::new("tmux")
            .args(["-L", &socket, "-f", "/dev/null", "new-session", "-d", "-x", &width.to_string(), "-y"])
            .args([&height.to_string(), &command])
            .status()
            .unwrap();
        assert!(ok.success());
        let t = Self { socket };
        t.tmux(&["set", "-g", "escape-time", "5"]);
        t.tmux(&["set", "-g", "monitor-bell", "on"]);
        t
    }

    fn tmux(&self, args: &[&str]) -> String {
        let out = Command::new("tmux").args(["-L", &self.socket]).args(args).output().unwrap();
        String::from_utf8_lossy(&out.stdout).into_owned()
    }

    /// The screen with lines joined that were wider than it.
    pub fn lines_as_written(&self) -> String {
        self.tmux(&["capture-pane", "-p", "-J"])
    }

    /// Another program writes onto the same terminal.
    pub fn scribbles(&self, words: &str) {
        let tty = self.tmux(&["display", "-p", "#{pane_tty}"]);
        std::fs::write(tty.trim(), format!("\x1b[5;5H{words}")).unwrap();
    }

    /// The title that the program gave its window.
    pub fn title(&self) -> String {
        self.tmux(&["display", "-p", "#{pane_title}"]).trim().to_owned()
    }

    /// The program rang its bell.
    pub fn rang(&self) -> bool {
        self.tmux(&["display", "-p", "#{window_bell_flag}"]).trim() == "1"
    }

    pub fn screen(&self) -> String {
        self.tmux(&["capture-pane", "-p"])
    }

    /// A terminal is read while it is drawn on: what it shows is what it shows twice, unless it changes all the time.
    fn at_rest(&self, mut screen: String, words: &str) -> String {
        for _ in 0..12 {
            std::thread::sleep(Duration::from_millis(40));
            let again = self.screen();
            if again == screen || !again.contains(words) {
                break;
            }
            screen = again;
        }
        screen
    }

    pub fn keys(&self, keys: &[&str]) {
        for key in keys {
            self.tmux(&["send-keys", key]);
            std::thread::sleep(Duration::from_millis(40));
        }
    }

    /// Bytes as a terminal sends them, in hexadecimal.
    pub fn bytes(&self, bytes: &[&str]) {
        self.tmux(&[&["send-keys", "-H"], bytes].concat());
    }

    /// In the route view: says yes to what is asked before a haul starts.
    pub fn starts(&self) {
        self.keys(&["s"]);
        self.sees("Start ");
        self.sees("y once");
        self.keys(&["y"]);
    }

    /// Pastes text as a terminal does: bracketed where the program asked for that.
    pub fn pastes(&self, text: &str) {
        self.tmux(&["set-buffer", "--", text]);
        self.tmux(&["paste-buffer", "-p"]);
        std::thread::sleep(Duration::from_millis(80));
    }

    pub fn text(&self, text: &str) {
        self.tmux(&["send-keys", "-l", text]);
    }

    /// In the yard: the route view on a new file, of 64 MiB.
    pub fn chooses_a_file(&self) {
        self.sees("a file on this machine");
        self.keys(&["G", "Enter"]);
        self.sees("a new file");
        self.keys(&["Tab", "j", "Enter", "C-u"]);
        self.text("64 MiB");
        self.keys(&["Enter"]);
        self.sees("64 MiB");
    }

    pub fn resize(&self, width: u16, height: u16) {
        self.tmux(&["resize-window", "-x", &width.to_string(), "-y", &height.to_string()]);
    }

    /// Waits for words on screen and gives the screen.
    pub fn sees(&self, words: &str) -> String {
        let began = Instant::now();
        loop {
            let screen = self.screen();
            if screen.contains(words) {
                return self.at_rest(screen, words);
            }
            assert!(
                began.elapsed() < Duration::from_secs(60),
                "\"{words}\" did not come; the screen is\n{screen}"
            );
            std::thread::sleep(Duration::from_millis(50));
        }
    }
}

impl Drop for Terminal {
    fn drop(&mut self) {
        self.tmux(&["kill-server"]);
    }
}

/// A line that the test command prints at its end.
pub fn summary(line: &str) {
    println!("{line}");
    if let Ok(path) = std::env::var("HOLLOW_MILE_SUMMARY") {
        use std::io::Write;
        let file = std::fs::OpenOptions::new().create(true).append(true).open(path);
        let _ = file.and_then(|mut f| writeln!(f, "{line}"));
    }
}

pub fn exists(path: &str) -> bool {
    Path::new(path).exists()
}

/// A loop device that goes when it is dropped.
pub struct Loop {
    /// `/dev/loop3`.
    pub node: String,
    /// The file below it.
    pub backing: PathBuf,
    /// Goes after the device.
    _folder: TempDir,
}

impl Loop {
    /// `None` where this machine gives no loop devices; says so, since the test then proves nothing.
    ///
    /// The file below lies in memory where there is room: how busy the disk of this machine is with other things is then no part of what
    /// is measured.
    pub fn new(bench: &Bench, size: u64) -> Option<Self> {
        let memory = Path::new("/dev/shm");
        let room = rustix::fs::statvfs(memory).map_or(0, |s| s.f_bavail * s.f_frsize);
        let there = (room > 4 * size).then(|| tempfile::tempdir_in(memory).ok()).flatten();
        let made = there
            .and_then(|folder| Self::over(folder, size, "--direct-io=off"))
            .or_else(|| Self::over(tempfile::tempdir_in(bench.dir.path()).unwrap(), size, "--direct-io=on"));
        if made.is_none() {
            eprintln!("left out: no loop device to be had here");
        }
        made
    }

    fn over(folder: TempDir, size: u64, way: &str) -> Option<Self> {
        let backing = folder.path().join("backing");
        std::fs::File::create(&backing).unwrap().set_len(size).unwrap();
        let out = Command::new("losetup").args(["--find", "--show", way]).arg(&backing).output().ok()?;
        let node = String::from_utf8(out.stdout).unwrap().trim().to_owned();
        out.status.success().then_some(Self { node, backing, _folder: folder })
    }

    pub fn name(&self) -> &str {
        self.node.trim_start_matches("/dev/")
    }
}

impl Drop for Loop {
    fn drop(&mut self) {
        let _ = Command::new("losetup").args(["--detach", &self.node]).status();
    }
}
