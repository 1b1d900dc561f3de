//! A text file line by line, as a table's reader wants it, with a bound on the length of a line.

use std::collections::BTreeMap;
use std::io::{BufRead, BufReader, Read};
use std::sync::{Arc, Mutex, PoisonError};

use super::CsvError;
use super::write::one_line;

/// Bytes of a row, and of a `#` line, which may hold a route.
const MOST_ROW: usize = 64 << 10;
const MOST_NOTE: usize = 32 << 20;

/// What the `#` lines say, as far as they were read.
pub(super) type Keys = Arc<Mutex<BTreeMap<String, String>>>;

/// Where it is told that a line has no end.
pub(super) type Endless = Arc<Mutex<Option<CsvError>>>;

/// The file line by line, with `\n` as the end of each (with CRLF the table's reader would count a line only after its successor has
/// begun), without a mark of byte order, and no line longer than it may be. What `#` lines say is kept on the way.
pub(super) struct Lines<R> {
    input: R,
    line: Vec<u8>,
    given: usize,
    number: u64,
    keys: Keys,
    endless: Endless,
}

impl<R: Read> Lines<BufReader<R>> {
    /// Nothing is read yet. What `#` lines say comes into `keys`; a line without an end into `endless`.
    pub(super) fn new(input: R, keys: &Keys, endless: &Endless) -> Self {
        Self {
            input: BufReader::with_capacity(1 << 18, input),
            line: Vec::new(),
            given: 0,
            number: 0,
            keys: Arc::clone(keys),
            endless: Arc::clone(endless),
        }
    }
}

impl<R: BufRead> Lines<R> {
    /// Takes up the next line; false at the end.
    fn next(&mut self) -> std::io::Result<bool> {
        self.line.clear();
        self.given = 0;
        self.number += 1;
        loop {
            let part = self.input.fill_buf()?;
            if part.is_empty() {
                break;
            }
            let end = part.iter().position(|b| *b == b'\n');
            let take = end.map_or(part.len(), |e| e + 1);
            self.line.extend_from_slice(&part[..take]);
            self.input.consume(take);
            let most = if self.line.starts_with(b"#") { MOST_NOTE } else { MOST_ROW };
            if self.line.len() > most {
                *self.endless.lock().unwrap_or_else(PoisonError::into_inner) =
                    Some(CsvError::Endless { line: self.number, most });
                return Err(std::io::Error::other("a line without an end"));
            }
            if end.is_some() {
                break;
            }
        }
        if self.number == 1 && self.line.starts_with("\u{feff}".as_bytes()) {
            self.line.drain(..3);
        }
        if self.line.ends_with(b"\r\n") {
            let at = self.line.len() - 2;
            self.line.remove(at);
        }
        if let Some(rest) = self.line.strip_prefix(b"#") {
            let rest = String::from_utf8_lossy(rest);
            if let Some((key, value)) = rest.split_once('=') {
                self.keys
                    .lock()
                    .unwrap_or_else(PoisonError::into_inner)
                    .insert(key.trim().to_owned(), one_line(value.trim()));
            }
        }
        Ok(!self.line.is_empty())
    }
}

impl<R: BufRead> Read for Lines<R> {
    fn read(&mut self, out: &mut [u8]) -> std::io::Result<usize> {
        let mut filled = 0;
        while filled < out.len() {
            if self.given == self.line.len() && !self.next()? {
                break;
            }
            let part = &self.line[self.given..];
            let n = part.len().min(out.len() - filled);
            out[filled..filled + n].copy_from_slice(&part[..n]);
            self.given += n;
            filled += n;
        }
        Ok(filled)
    }
}
