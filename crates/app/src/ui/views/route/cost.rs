//! What a route will cost, drive by drive: what is written, how long it takes, what is lost.

use hollow_mile_core::drive::{DriveIdentity, DriveKind};
use hollow_mile_core::quantity::units::{Bytes, significant};
use hollow_mile_core::route::{LaidOn, Route};
use hollow_mile_drives::linux::Room;
use hollow_mile_drives::linux::guard::{self, Reason};
use std::path::PathBuf;

use super::{OnDrive, RouteView};
use crate::told::estimate::takes;

type Line = (String, String);

impl RouteView {
    /// What it will cost: name and words. Of several drives first all together, then each.
    pub(super) fn cost(&self) -> Vec<Line> {
        let Some(route) = &self.draft else { return Vec::new() };
        match self.drives.as_slice() {
            [] => Vec::new(),
            [drive] => self.cost_on(route, drive),
            several => {
                let each: Vec<Option<Bytes>> =
                    several.iter().map(|d| route.bytes_written_on(d.identity.capacity)).collect();
                let known: Bytes = each.iter().flatten().copied().fold(Bytes::ZERO, |a, b| a + b);
                let words = match each.iter().filter(|b| b.is_none()).count() {
                    0 => format!("{known} at most on {} drives together", several.len()),
                    _ => format!(
                        "on {} drives, as long as it takes: a leg has no bound in bytes",
                        several.len()
                    ),
                };
                let mut lines = vec![("writes".to_owned(), words)];
                for drive in several {
                    let serial = &drive.identity.serial;
                    let all = self.cost_on(route, drive);
                    let say = |name: &str| all.iter().find(|l| l.0 == name).map(|l| l.1.as_str());
                    let first = ["writes", "wear", "takes"].iter().filter_map(|n| say(n));
                    lines.push((serial.clone(), first.collect::<Vec<_>>().join("; ")));
                    for name in ["destroys", "busy", "guard", "not seen"] {
                        let told = all.iter().filter(|l| l.0 == name && !l.1.starts_with("nothing:"));
                        lines.extend(told.map(|l| (String::new(), format!("{name}: {}", l.1))));
                    }
                }
                lines
            }
        }
    }

    fn cost_on(&self, route: &Route, on: &OnDrive) -> Vec<Line> {
        let drive = &on.identity;
        let capacity = self.capacity_of(drive);
        let written = route.bytes_written_on(capacity);
        let mut lines: Vec<(&str, String)> = vec![(
            "writes",
            written.map_or_else(
                || "as long as it takes: a leg has no bound in bytes".into(),
                |b| format!("{b} at most"),
            ),
        )];
        if let Some(bytes) = written.filter(|b| *b > Bytes::ZERO) {
            let wear = match drive.rated_writes.or_else(|| on.known.endurance()) {
                Some(rated) => {
                    let share = bytes.as_f64() / rated.as_f64().max(1.0);
                    format!("{} % of the rated {rated}", significant(share * 100.0))
                }
                None if matches!(drive.kind, DriveKind::File | DriveKind::Folder) => {
                    "on the drive below, whose rating is not asked".into()
                }
                None => {
                    let times = bytes.as_f64() / capacity.as_f64().max(1.0);
                    format!("{} times the drive's capacity; no rating is known", significant(times))
                }
            };
            lines.push(("wear", wear));
        }
        let laid_out = route.laid_out(LaidOn::file_system_if(drive.kind == DriveKind::File));
        lines.push(("takes", takes(&on.known, &laid_out, capacity)));
        lines.push(("destroys", self.destroys(route, on)));
        if let Some(rate) = on.busy {
            lines.push(("busy", format!("others move {rate} on it now: the figures would tell of them too")));
        }
        let writes_device = drive.kind == DriveKind::Block && route.destroys();
        if let Some(e) = on.examination.as_ref().filter(|_| writes_device) {
            let erasures = route.whole_erasures();
            let erase = self.serial_typed_for(drive);
            let consent = guard::Consent { erase, erasures, ..self.consent.clone() };
            let guarded = match e.verdict(&consent) {
                Ok(()) => "consent is whole: s starts and writes".into(),
                Err(refusal) => refusal.reasons.iter().map(reason_here).collect::<Vec<_>>().join("; "),
            };
            lines.push(("guard", guarded));
            lines.extend(e.unseen.iter().map(|u| ("not seen", u.to_string())));
        }
        lines.into_iter().map(|(name, value)| (name.to_owned(), value)).collect()
    }

    /// The part of what was typed as consent that names this drive; all of it where none does.
    pub(in crate::ui) fn serial_typed_for(&self, drive: &DriveIdentity) -> Option<String> {
        let typed = self.consent.erase.as_deref().unwrap_or_default();
        let own = typed.split(',').map(str::trim).find(|t| *t == drive.serial).unwrap_or(typed);
        (!own.is_empty()).then(|| own.to_owned())
    }

    fn destroys(&self, route: &Route, on: &OnDrive) -> String {
        match on.identity.kind {
            DriveKind::Simulated => "nothing: the drive is simulated".into(),
            DriveKind::Folder => "nothing: files in a new folder, removed at the end".into(),
            DriveKind::File if super::moves_files(route) => {
                "nothing: files in a new folder, removed at the end".into()
            }
            DriveKind::File => {
                format!("nothing: a new file, {}, removed at the end", self.room(&on.identity))
            }
            DriveKind::Block if !route.destroys() => "nothing: the drive is only read".into(),
            DriveKind::Block | DriveKind::Imported => match &on.examination {
                Some(e) if !e.losses.is_empty() => e.losses.join("; "),
                _ => "whatever is on the drive; nothing known was found there".into(),
            },
        }
    }

    /// What a start would do, a line a drive, for the question before it.
    #[must_use]
    pub fn what_starts(&self) -> Vec<String> {
        let Some(route) = &self.draft else { return Vec::new() };
        let mut lines = vec![format!("Start {}?", route.name)];
        for on in &self.drives {
            let drive = &on.identity;
            let written = route.bytes_written_on(self.capacity_of(drive));
            let writes = match written {
                Some(b) if b == Bytes::ZERO => "reads only".to_owned(),
                Some(b) => format!("writes {b} at most"),
                None if route.destroys() => "writes as long as it takes".into(),
                None => "reads only".into(),
            };
            let place = match drive.kind {
                DriveKind::File if super::moves_files(route) => format!("in a new folder in {}", self.folder),
                DriveKind::File => format!("to the new file {}", self.path),
                DriveKind::Folder => format!("in a new folder in {}", drive.target),
                DriveKind::Simulated => format!("on {}, which is simulated", drive.serial),
                DriveKind::Block | DriveKind::Imported => {
                    format!("on {} ({} {})", drive.target, drive.model, drive.serial)
                }
            };
            let lost = match drive.kind {
                DriveKind::Block if route.destroys() => format!("; destroys {}", self.destroys(route, on)),
                _ => String::new(),
            };
            lines.push(format!("It {writes} {place}{lost}."));
        }
        lines
    }

    fn room(&self, drive: &DriveIdentity) -> String {
        let path = PathBuf::from(&self.path);
        let folder = path.parent().filter(|p| !p.as_os_str().is_empty());
        match folder.map(Room::of) {
            Some(Ok(room)) if self.capacity_of(drive) > room.usable() => {
                format!("too large: {} could be used there", room.usable())
            }
            Some(Ok(room)) => format!("{} could be used there", room.usable()),
            _ => "in a folder that is not there".into(),
        }
    }
}

/// Why a device is not written yet, in the words of this view: what is asked for is asked for in its fields.
fn reason_here(reason: &Reason) -> String {
    match reason {
        Reason::Holds(names) => {
            let (held, names) = (guard::held(names), names.join(", "));
            format!("it holds {held}: to lose that, name it in the field give up: {names}")
        }
        Reason::Unstoppable(all) => {
            let words = all.iter().map(|e| e.word()).collect::<Vec<_>>().join(", ");
            format!(
                "it erases all of the drive, and nothing stops it once it has begun: to agree, name it in the field give up: {words}"
            )
        }
        Reason::NoConsent { serial } => format!("type its serial in the field erase serial: \"{serial}\""),
        other => other.to_string(),
    }
}
