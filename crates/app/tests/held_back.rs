//! A machine that holds a drive back in the middle of a write: a loop device under the kernel's own throttle, and what the experiments say.
#![allow(clippy::unwrap_used, clippy::panic, missing_docs)]

mod common;

use std::path::{Path, PathBuf};
use std::process::{Child, Command, Stdio};
use std::time::Duration;

use common::{Bench, Loop, summary, wait_until};
use serde_json::Value;

/// A group of processes whose reads and writes of a device the kernel paces (blkio.throttle of cgroup version 1, io.max of version 2).
struct Throttle {
    group: PathBuf,
    /// Major and minor number.
    device: String,
}

impl Throttle {
    /// `None` where this machine gives no such group; says so, since the test then proves nothing.
    fn new(node: &str, name: &str) -> Option<Self> {
        let sys = Path::new("/sys/fs/cgroup");
        let group = [sys.join("blkio"), sys.to_owned()].into_iter().find_map(|root| {
            let group = root.join(format!("hollow-mile-{name}-{}", std::process::id()));
            let paced =
                |g: &Path| g.join("io.max").exists() || g.join("blkio.throttle.write_bps_device").exists();
            std::fs::create_dir(&group).ok()?;
            if paced(&group) {
                return Some(group);
            }
            let _ = std::fs::remove_dir(&group);
            None
        });
        if group.is_none() {
            eprintln!("left out: this machine gives no group whose reads and writes are paced");
        }
        let number = |at: u64| format!("{}:{}", rustix::fs::major(at), rustix::fs::minor(at));
        let device = number(rustix::fs::stat(node).unwrap().st_rdev);
        Some(Self { group: group?, device })
    }

    /// No faster than so many bytes a second, each way.
    fn both_ways(&self, bytes: u64) {
        let v2 = self.group.join("io.max");
        if v2.exists() {
            std::fs::write(v2, format!("{} rbps={bytes} wbps={bytes}", self.device)).unwrap();
            return;
        }
        for way in ["read", "write"] {
            let file = self.group.join(format!("blkio.throttle.{way}_bps_device"));
            std::fs::write(file, format!("{} {bytes}", self.device)).unwrap();
        }
    }

    /// The program in the group.
    fn start(&self, bench: &Bench, args: &[&str]) -> Child {
        let program = bench.command(args);
        let mut inside = Command::new("sh");
        let script = "echo $$ >\"$1/cgroup.procs\" && shift && exec \"$@\"";
        inside
            .args(["-c", script, "sh"])
            .arg(&self.group)
            .arg(program.get_program())
            .args(program.get_args());
        program.get_envs().for_each(|(k, v)| {
            inside.env(k, v.unwrap_or_default());
        });
        inside.stdout(Stdio::piped()).stderr(Stdio::piped()).spawn().unwrap()
    }
}

impl Drop for Throttle {
    fn drop(&mut self) {
        // What is left in it when the test failed.
        let inside = std::fs::read_to_string(self.group.join("cgroup.procs")).unwrap_or_default();
        inside.lines().for_each(|pid| drop(Command::new("kill").args(["-9", pid]).status()));
        std::thread::sleep(Duration::from_millis(200));
        let _ = std::fs::remove_dir(&self.group);
    }
}

#[test]
fn a_machine_that_holds_a_drive_back_is_found_by_experiment() {
    let bench = Bench::new();
    let Some(device) = Loop::new(&bench, 3 << 30) else { return };
    let Some(throttle) = Throttle::new(&device.node, "both") else { return };
    throttle.both_ways(50_000_000);
    let route = bench.path("route.toml");
    let leg = "kind = \"write\"\nblock = \"256 KiB\"\ndepth = 8\ndecide = true\ndecide_time = \"3 min\"\ndecide_bytes = \"2 GB\"";
    std::fs::write(&route, format!("name = \"held\"\n[[leg]]\n{leg}\nuntil = {{ bytes = \"100 %\" }}\n"))
        .unwrap();
    let args = ["haul", &route, "--on", &device.node, "--erase", device.name(), "--json"];
    let child = throttle.start(&bench, &args);
    let row =
        |key: &str| bench.json(&["ledger", "--json"]).get(0).map(|r| r[key].clone()).unwrap_or_default();
    wait_until("it wrote at full speed for a while", || row("written_bytes").as_u64() > Some(700_000_000));
    throttle.both_ways(18_000_000);
    let haul = row("haul").as_str().unwrap().to_owned();
    // It is looked into by itself after 40 s; who asks need not wait for that.
    wait_until("it fell, and is looked into", || {
        std::thread::sleep(Duration::from_secs(1));
        bench.run(&["tell", &haul, "find-out"]).status.success()
    });
    let decided = || {
        let all = bench.json(&["findings", &haul, "--json"]);
        let found = all["findings"].as_array().unwrap().iter().find(|f| f["decided"]["ended"].is_string());
        found.cloned()
    };
    // Its budget of three minutes ends it in any case.
    let began = std::time::Instant::now();
    while decided().is_none() {
        assert!(began.elapsed() < Duration::from_secs(300), "it came to no end");
        std::thread::sleep(Duration::from_secs(1));
    }
    assert!(bench.run(&["tell", &haul, "stop"]).status.success());
    let out = child.wait_with_output().unwrap();
    let told: Value = serde_json::from_slice(&out.stdout).unwrap();
    let f = decided().unwrap();
    // A machine that is busy with other things lets arms stand still, and then it may not be decided: never for another cause.
    if f["decided"]["ended"] != "decided" {
        assert_eq!(f["decided"]["shares"][0]["kind"], "host-limit", "{told}");
        summary(&format!("throttled loop device: NOT DECIDED ({}), the host first", f["decided"]["ended"]));
        return;
    }
    assert_eq!(
        (&f["kind"], &f["decided"]["causes"]),
        (&"host-limit".into(), &serde_json::json!(["host-limit"])),
        "{told}"
    );
    let reads = &f["decided"]["reads"];
    let (low, high) = (reads["low"].as_f64().unwrap(), reads["high"].as_f64().unwrap());
    assert!(low < 1.03 && high > 0.97, "the throttle paces both ways alike: {reads}");
    assert!(f["decided"]["ratio"].as_f64().unwrap() > 99.0, "{f}");
    summary("throttled loop device: the host, by experiment");
}
