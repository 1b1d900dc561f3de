//! The list of hauls: of a short ledger all at once; of a long one the newest at once, and all of them as soon as a thread of its own has
//! read them.

use std::time::{Duration, Instant};

use crossbeam_channel::{Receiver, TryRecvError, bounded};
use hollow_mile_ledger::HaulRow;

use super::app::App;
use super::review::spawn;
use super::views::yard::grave;
use crate::error::AppError;
use crate::told::words;

/// Hauls that are read while somebody waits.
const AT_ONCE: usize = 2000;
/// What others change in older hauls is seen after so long.
const OLDER_AFTER: Duration = Duration::from_secs(15);

/// All hauls with what each can be found by.
type Listed = Result<(Vec<HaulRow>, Vec<String>), AppError>;

/// How far the list is read.
#[derive(Default)]
pub struct Listing {
    coming: Option<Receiver<Listed>>,
    /// Something older may have changed since all were read.
    stale: bool,
    read: Option<Instant>,
}

impl Listing {
    /// A thread reads it.
    pub const fn is_coming(&self) -> bool {
        self.coming.is_some()
    }
}

impl App {
    /// Reads the list of hauls anew, after something was changed here.
    ///
    /// # Errors
    /// When the ledger cannot be read.
    pub fn reload(&mut self) -> Result<(), AppError> {
        if self.read_newest()? {
            self.begin_listing()?;
        }
        Ok(())
    }

    /// Reads anew what others are likely to have changed.
    pub(super) fn reload_news(&mut self) -> Result<(), AppError> {
        self.listing.stale |= self.read_newest()?;
        Ok(())
    }

    /// True where there are more than could be read at once.
    fn read_newest(&mut self) -> Result<bool, AppError> {
        let rows = self.ledger.newest(AT_ONCE + 1)?;
        let more = rows.len() > AT_ONCE;
        self.yard.forget_hauls();
        if more {
            self.archive.show_newest(rows);
        } else {
            self.listing = Listing::default();
            let hay = rows.iter().map(words::haystack).collect();
            self.archive.show(rows, hay);
        }
        self.tell_yard();
        Ok(more)
    }

    fn tell_yard(&mut self) {
        let ledger = &self.ledger;
        let found = |haul: &str| grave(ledger.digest_at_hand(haul)?.findings.iter().map(|f| f.kind));
        self.yard.know(self.archive.all_shared(), &found);
    }

    fn begin_listing(&mut self) -> Result<(), AppError> {
        let (give, coming) = bounded(1);
        let ledger = self.ledger.another()?;
        self.listing.stale = false;
        self.listing.coming = spawn("listing", move || {
            let listed = ledger.hauls().map_err(AppError::from).map(|rows| {
                let hay = rows.iter().map(words::haystack).collect();
                (rows, hay)
            });
            let _ = give.send(listed);
        })
        .ok()
        .map(|()| coming);
        Ok(())
    }

    /// Takes the list where it has been read, and begins to read it anew where it is due. True when there is something new.
    pub(super) fn follow_listing(&mut self) -> bool {
        let told = match self.listing.coming.as_ref().map(Receiver::try_recv) {
            Some(Ok(listed)) => listed,
            Some(Err(TryRecvError::Empty)) => return false,
            Some(Err(TryRecvError::Disconnected)) => Err(AppError::machine("the list of hauls was not read")),
            None => {
                let due = self.listing.read.is_none_or(|r| r.elapsed() > OLDER_AFTER);
                if self.listing.stale && due {
                    let begun = self.begin_listing();
                    self.heed(begun);
                }
                return false;
            }
        };
        (self.listing.coming, self.listing.read) = (None, Some(Instant::now()));
        match told {
            Ok((rows, hay)) => {
                self.yard.forget_hauls();
                self.archive.show(rows, hay);
                self.tell_yard();
            }
            Err(e) => self.say(e.message),
        }
        true
    }

    /// Waits until all hauls are listed: a second or two where there are a hundred thousand.
    pub fn finish_listing(&mut self) {
        while self.listing.coming.is_some() {
            self.follow_listing();
            std::thread::sleep(Duration::from_millis(1));
        }
    }
}
