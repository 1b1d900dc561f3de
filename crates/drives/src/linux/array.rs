//! How md arrays stand (Documentation/admin-guide/md.rst of the kernel).

use super::sysfs::{BlockDevice, line, number};

/// How an array stands.
#[derive(Debug, Clone, Default, PartialEq, Eq)]
pub struct ArrayState {
    /// Members that it is short of.
    short: u64,
    /// What it does of itself.
    action: Option<String>,
}

impl ArrayState {
    /// It lost a member, or began with something of its own.
    #[must_use]
    pub fn is_worse_than(&self, before: &Self) -> bool {
        self.short > before.short || self.action.is_some() && self.action != before.action
    }
}

impl BlockDevice {
    /// How an md array stands; nothing is amiss with what is none.
    #[must_use]
    pub fn array_state(&self) -> ArrayState {
        let md = self.disk().folder.join("md");
        ArrayState {
            short: number(&md.join("degraded")).unwrap_or(0),
            action: line(&md.join("sync_action")).filter(|a| a != "idle" && a != "frozen"),
        }
    }

    /// What of an md array is not as it should be, in sentences (Documentation/admin-guide/md.rst of the kernel); nothing of what is none.
    #[must_use]
    pub fn array_doubts(&self) -> Vec<String> {
        let md = self.disk().folder.join("md");
        let Some(level) = line(&md.join("level")) else { return Vec::new() };
        let mut said = Vec::new();
        let members = number(&md.join("raid_disks")).unwrap_or(0);
        if let Some(short) = number(&md.join("degraded")).filter(|n| *n > 0) {
            said.push(format!(
                "the {level} array is short of {short} of its {members} members: what is measured is not what it does when whole"
            ));
        }
        if let Some(action) = line(&md.join("sync_action")).filter(|a| a != "idle" && a != "frozen") {
            let done = line(&md.join("sync_completed")).and_then(|l| {
                let (done, of) = l.split_once('/')?;
                Some(done.trim().parse::<f64>().ok()? / of.trim().parse::<f64>().ok()?.max(1.0) * 100.0)
            });
            let done = done.map(|d| format!(", {d:.0} % done")).unwrap_or_default();
            said.push(format!(
                "the array is busy with itself ({action}{done}): that takes part of every member's time"
            ));
        }
        said
    }
}
