//! What waits for a drive, as the interface shows and changes it.

use ratatui::crossterm::event::{KeyCode, KeyEvent};

use super::app::{App, Overlay};
use super::asking::{Question, Yes};
use crate::again::again;
use crate::error::AppError;
use crate::orders::Orders;
use crate::queue::{self, Between, Entry};

impl App {
    /// Opens the queue of the drive under the cursor of the yard.
    pub(super) fn show_queue(&mut self) {
        let Some(drive) = self.yard.chosen_row().map(|r| r.identity.target.clone()) else { return };
        let queues = queue::all(&self.home);
        // A file's queue goes by the path of the file.
        let wanted =
            |q: &&queue::Queue| q.drive == drive || (drive == "file:" && q.drive.starts_with("file:"));
        match queues.iter().find(wanted) {
            Some(q) => self.overlay = Some(Overlay::Queue { drive: q.drive.clone(), chosen: 0 }),
            None => {
                self.say("Nothing waits for this drive: w puts a haul into its queue when it asks to start.")
            }
        }
        self.yard.queues_are(queues);
    }

    pub(super) fn on_queue_key(&mut self, drive: String, chosen: usize, key: &KeyEvent) {
        let changed = match key.code {
            KeyCode::Esc | KeyCode::Char('q') => return,
            KeyCode::Up | KeyCode::Char('k') => Ok(chosen.saturating_sub(1)),
            KeyCode::Down | KeyCode::Char('j') => Ok(chosen + 1),
            KeyCode::Char(key @ ('-' | '+' | '=')) => {
                // The one that is seen under the cursor, wherever it stands by now.
                let seen = self.yard.queue_of(&drive).and_then(|q| q.entries.get(chosen).cloned());
                let by = if key == '-' { -1 } else { 1 };
                queue::change(&self.home, &drive, |q| {
                    seen.and_then(|e| q.place_of(&e, chosen)).map_or(chosen, |at| q.shift(at, by))
                })
            }
            KeyCode::Char(' ') => {
                let turned = queue::change(&self.home, &drive, |q| {
                    q.paused = !q.paused;
                    if !q.paused {
                        q.trouble = None;
                    }
                    !q.paused
                });
                turned.and_then(|goes| {
                    if goes && self.apart { queue::runner::start(&self.home, &drive) } else { Ok(()) }
                        .map(|()| chosen)
                })
            }
            KeyCode::Char('D') => {
                let seen = self.yard.queue_of(&drive).and_then(|q| q.entries.get(chosen).cloned());
                if let Some(entry) = seen {
                    let lines = vec![format!("Take this haul out of the queue of {drive}?"), entry.words()];
                    let yes = Yes::Unqueue(drive, chosen, Box::new(entry));
                    return self.ask(Question::yes_or_no(lines, yes));
                }
                Ok(chosen)
            }
            _ => Ok(chosen),
        };
        self.reopen_queue(drive, changed);
    }

    /// Shows a queue again after it was changed; a cursor beyond its end stands on its last.
    pub(super) fn reopen_queue(&mut self, drive: String, chosen: Result<usize, AppError>) {
        let queues = queue::all(&self.home);
        let last = queues.iter().find(|q| q.drive == drive).map(|q| q.entries.len().saturating_sub(1));
        self.yard.queues_are(queues);
        match (chosen, last) {
            (Err(e), _) => self.say(e.message),
            (Ok(_), None) => self.say(format!("Nothing waits for {drive} any more.")),
            (Ok(chosen), Some(last)) => {
                self.overlay = Some(Overlay::Queue { drive, chosen: chosen.min(last) });
            }
        }
    }

    /// Puts what the Route view plans into the queues of its drives.
    pub(super) fn queue_plan(&mut self, times: u32) -> Result<(), AppError> {
        let orders = self.orders(1)?;
        let each: Vec<Orders> = orders
            .seats
            .iter()
            .map(|seat| Orders { seats: vec![seat.clone()], ends_with_starter: false, ..orders.clone() })
            .collect();
        self.queue_in_turns(&each, times, self.route.between)
    }

    /// Asks to repeat the marked hauls in turns.
    pub(super) fn ask_to_repeat_marked(&mut self) -> Result<(), AppError> {
        let hauls: Vec<String> = self.archive.marked_rows().iter().map(|r| r.haul.clone()).collect();
        let mut lines =
            vec![format!("Run these {} hauls again, in turns, in the queues of their drives?", hauls.len())];
        for haul in &hauls {
            let a = again(&self.ledger, haul)?;
            if a.drive.starts_with("/dev/") && a.route.destroys() {
                return Err(AppError::usage(format!(
                    "Haul {haul} destroys what is on {}: repeat it by itself, or with `hollow-mile again --erase`.",
                    a.drive
                )));
            }
            lines.push(format!("{}  {}  {}", a.serial, a.route.name, a.conditions.label.unwrap_or_default()));
        }
        let mut answers = vec![
            ('y', "once", Yes::Repeat { hauls: hauls.clone(), times: 1 }),
            ('2', "to 9 that many times", Yes::Repeat { hauls: hauls.clone(), times: 2 }),
        ];
        answers.extend(
            ('3'..='9').zip(3..).map(|(key, times)| (key, "", Yes::Repeat { hauls: hauls.clone(), times })),
        );
        self.ask(Question::choice(lines, answers, "no"));
        Ok(())
    }

    pub(super) fn repeat_in_turns(&mut self, hauls: &[String], times: u32) -> Result<(), AppError> {
        let mut each = Vec::new();
        for haul in hauls {
            let a = again(&self.ledger, haul)?;
            let before = self.yard.count_hauls(&a.serial);
            each.push(a.orders(&self.home, None, Vec::new(), before));
        }
        self.queue_in_turns(&each, times, Between::default())
    }

    fn queue_in_turns(&mut self, each: &[Orders], times: u32, between: Between) -> Result<(), AppError> {
        let entry = |orders: Orders| Entry { orders, between };
        let mut entries: Vec<Entry> = queue::repeated(each, times, true).into_iter().map(entry).collect();
        queue::number(&mut entries);
        let count = entries.len();
        let drives = queue::push(&self.home, entries)?;
        if self.apart {
            drives.iter().try_for_each(|d| queue::runner::start(&self.home, d))?;
        }
        self.yard.queues_are(queue::all(&self.home));
        let words = if count == 1 { "1 haul waits".to_owned() } else { format!("{count} hauls wait") };
        self.say(format!("{words} in the queue, which goes on when you leave: Q in the yard shows it."));
        Ok(())
    }
}
