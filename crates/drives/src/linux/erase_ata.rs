//! An ATA drive that erases itself: SANITIZE DEVICE and SECURITY ERASE UNIT, through SAT.

use std::fs::File;
use std::io::{Error, Result};
use std::sync::Arc;
use std::time::Duration;

use hollow_mile_core::drive::erasure::Erasure;
use hollow_mile_core::drive::protocol::ata_erase::{
    AtaOffers, DISABLE_PASSWORD, ERASE_PREPARE, ERASE_UNIT, SET_PASSWORD, password_page, sanitize,
    sanitize_stands, status,
};
use hollow_mile_core::drive::protocol::nvme_erase::Stands;
use hollow_mile_core::drive::protocol::sat;
use hollow_mile_core::drive::protocol::sat::{Command, Transfer};

use super::erase::{Commands, OnThread, offered};
use super::guard::{EraseCommand, Writable};
use super::pass_through::{ata, ata_registers};
use super::sysfs::BlockDevice;

/// A sanitize begins within this, and goes on by itself; so long any other command than the erase takes at most.
const BEGINS_MS: u32 = 60_000;
/// An erase comes back when it is over: twice what the drive says, or so long where it does not say.
const LONGEST_MS: u32 = 24 * 3600 * 1000;

/// What an ATA drive offers, asked anew.
///
/// # Errors
/// What the drive or the kernel says.
fn offers(device: &BlockDevice) -> std::result::Result<(File, AtaOffers), String> {
    let ask = |e: Error| format!("what it offers to erase cannot be asked: {e}");
    let file = File::open(device.node()).map_err(ask)?;
    let mut page = [0u8; 512];
    ata(&file, sat::IDENTIFY, Transfer::In(1), false, &mut page).map_err(ask)?;
    let offers = AtaOffers::decode(&page).map_err(|e| e.to_string())?;
    Ok((file, offers))
}

/// Whether a drive may be erased in these ways.
///
/// # Errors
/// Why not, and what can be done about it.
pub(super) fn may_erase(device: &BlockDevice, ways: &[Erasure]) -> std::result::Result<(), String> {
    against(&offers(device)?.1, ways)
}

fn against(offers: &AtaOffers, ways: &[Erasure]) -> std::result::Result<(), String> {
    if let Some(by) = ways.iter().find(|by| !offers.has(**by)) {
        return Err(format!("the drive does not offer {by}; it offers {}", offered(|e| offers.has(e))));
    }
    let by_password = |e: &&Erasure| matches!(e, Erasure::SecurityErase | Erasure::SecurityEraseEnhanced);
    if let Some(by) = ways.iter().find(by_password).filter(|_| offers.frozen) {
        return Err(format!(
            "{by} is frozen until the drive loses power: this machine's firmware does that at each start. Let the machine sleep and wake, or plug the drive in again"
        ));
    }
    Ok(())
}

/// The commands of an ATA drive for a way to erase.
///
/// # Errors
/// As for [`may_erase`].
pub(super) fn commands(
    device: &BlockDevice,
    writable: &Arc<Writable>,
    by: Erasure,
) -> std::result::Result<Box<dyn Commands>, String> {
    let (file, offers) = offers(device)?;
    against(&offers, &[by])?;
    let writable = writable.clone();
    if sanitize(by).is_some() {
        return Ok(Box::new(Sanitize { writable, by, file }));
    }
    let enhanced = by == Erasure::SecurityEraseEnhanced;
    let takes = if enhanced { offers.enhanced_takes } else { offers.erase_takes };
    let (has_password, command) = (offers.has_password, OnThread::default());
    Ok(Box::new(SecurityErase { writable, by, has_password, takes, command }))
}

struct Sanitize {
    writable: Arc<Writable>,
    by: Erasure,
    file: File,
}

impl Commands for Sanitize {
    fn begin(&mut self) -> Result<()> {
        let command = sanitize(self.by).ok_or(std::io::ErrorKind::InvalidInput)?;
        self.writable.erase_whole(self.by, &EraseCommand::Extended(command), BEGINS_MS)
    }

    fn stands(&mut self) -> Result<Stands> {
        let answer = ata_registers(&self.file, status(false), BEGINS_MS)?;
        Ok(sanitize_stands(&answer))
    }

    fn give_up(&mut self) {
        let _ = self.writable.erase_whole(self.by, &EraseCommand::Extended(status(true)), BEGINS_MS);
    }
}

/// The erase by password.
struct SecurityErase {
    writable: Arc<Writable>,
    by: Erasure,
    /// One is set already: ours, where an erase was cut off by a loss of power.
    has_password: bool,
    takes: Option<Duration>,
    command: OnThread,
}

impl Commands for SecurityErase {
    fn begin(&mut self) -> Result<()> {
        let (writable, by, had_password) = (self.writable.clone(), self.by, self.has_password);
        let page = move || Box::new(password_page(by == Erasure::SecurityEraseEnhanced));
        let command = |code: u8| Command { command: code, feature: 0, lba: 0 };
        if !had_password {
            writable.erase_whole(
                by,
                &EraseCommand::WithPassword(command(SET_PASSWORD), page()),
                BEGINS_MS,
            )?;
        }
        let longest = self.takes.map_or(LONGEST_MS, |t| {
            u32::try_from(2 * t.as_millis()).unwrap_or(LONGEST_MS).clamp(3_600_000, LONGEST_MS)
        });
        self.command.begin(move || {
            let send = |c: &EraseCommand, ms| writable.erase_whole(by, c, ms);
            let erased = send(&EraseCommand::Plain(command(ERASE_PREPARE)), BEGINS_MS)
                .and_then(|()| send(&EraseCommand::WithPassword(command(ERASE_UNIT), page()), longest));
            erased.map_err(|e| {
                // A password that was there before is ours, where an erase was cut off, or somebody else's.
                if had_password {
                    return Error::other(format!(
                        "{e}. The drive had a password before: if it is not \"hollow mile\", take it away by what set it"
                    ));
                }
                // What did not begin leaves the password; without it the drive is as it was.
                let off = EraseCommand::WithPassword(command(DISABLE_PASSWORD), Box::new(password_page(false)));
                match send(&off, BEGINS_MS) {
                    Ok(()) => e,
                    Err(_) => Error::other(format!(
                        "{e}. The drive has the password \"hollow mile\" now and may be locked by it: run this leg again to erase it, or unlock it by that password"
                    )),
                }
            })
        })
    }

    fn stands(&mut self) -> Result<Stands> {
        self.command.stands()
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn what_a_drive_does_not_offer_or_cannot_do_now_is_said_with_what_helps() {
        let offers =
            AtaOffers { security: true, frozen: true, sanitize_crypto: true, ..AtaOffers::default() };
        assert!(against(&offers, &[Erasure::SanitizeCrypto]).is_ok(), "freezing security stops no sanitize");
        assert_eq!(
            against(&offers, &[Erasure::SanitizeBlock]).unwrap_err(),
            "the drive does not offer sanitize-block; it offers discard, write-zeroes, sanitize-crypto, security-erase"
        );
        let frozen = against(&offers, &[Erasure::SecurityErase]).unwrap_err();
        assert!(frozen.starts_with("security-erase is frozen until the drive loses power"), "{frozen}");
        assert!(against(&AtaOffers { frozen: false, ..offers }, &[Erasure::SecurityErase]).is_ok());
        assert!(against(&offers, &[Erasure::SecurityEraseEnhanced]).is_err());
    }
}
