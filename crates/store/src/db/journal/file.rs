//! The journal's file: read whole and held against itself, and written so that no line is ever half there.
//!
//! Each line carries its number, the id of the file it was begun in, and a digest of the line before. So a gap, an
//! end that was cut off, a changed line or another file is seen when the store is opened. Lines from before files had an id
//! carry neither.

use super::{FILE, What};
use rinse_core::channel::Channel;
use rinse_core::token::hex;
use serde::{Deserialize, Serialize};
use sha2::{Digest, Sha256};
use std::collections::HashMap;
use std::fs::{File, OpenOptions};
use std::io::{self, BufRead, BufReader, Read, Write};
use std::path::Path;

/// No line is longer.
const LONGEST: u64 = 64_000;
/// No line has a greater number.
const MOST: i64 = 1 << 53;
/// Faults named; the rest are like them.
const NAMED: usize = 5;

#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
pub(crate) struct Line {
    pub(crate) seq: i64,
    pub(crate) at: i64,
    pub(crate) what: What,
    /// The keyed hash of the address, in hexadecimal.
    pub(crate) who: String,
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub(crate) topic: Option<String>,
    /// The legal entity, when it isn't the first.
    #[serde(default, skip_serializing_if = "String::is_empty")]
    pub(crate) entity: String,
    #[serde(default, skip_serializing_if = "is_email")]
    pub(crate) channel: Channel,
    /// The file's id.
    #[serde(default)]
    pub(crate) journal: String,
    /// The digest of the line before.
    #[serde(default)]
    pub(crate) before: String,
}

fn is_email(channel: &Channel) -> bool {
    *channel == Channel::Email
}

fn digest(line: &[u8]) -> String {
    hex(&Sha256::digest(line)[..16])
}

/// How far a journal has been seen by a database.
#[derive(Debug, Clone, PartialEq, Eq, Default)]
pub(crate) struct Mark {
    pub(crate) upto: i64,
    pub(crate) digest: String,
}

pub(crate) type Marks = HashMap<String, Mark>;

/// What a file holds, held against what a database has seen of it.
#[derive(Debug, Default)]
pub(crate) struct Whole {
    /// Lines that the database hasn't got.
    pub(crate) unseen: Vec<Line>,
    /// The last whole line: its number, its file's id, its digest.
    last: Option<(i64, String, String)>,
    /// Bytes up to the end of the last whole line.
    len: u64,
    /// What is wrong with it, in sentences.
    pub(crate) faults: Vec<String>,
    /// Lines after which the file's id changed: its end may be missing, or the file was new.
    pub(crate) ends: Marks,
}

impl Whole {
    fn fault(&mut self, words: String) {
        if self.faults.len() < NAMED {
            self.faults.push(words);
        }
    }

    /// Reads a file from its beginning; none is an empty one.
    ///
    /// # Errors
    /// When it can't be read.
    pub(crate) fn read(folder: &Path, marks: &Marks) -> io::Result<Self> {
        let mut whole = Self::default();
        match File::open(folder.join(FILE)) {
            Ok(file) => whole.take_lines(file, marks)?,
            Err(e) if e.kind() == io::ErrorKind::NotFound => {}
            Err(e) => return Err(e),
        }
        whole.against(marks);
        Ok(whole)
    }

    fn take_lines(&mut self, file: File, marks: &Marks) -> io::Result<()> {
        let mut file = BufReader::with_capacity(1 << 16, file);
        let (mut text, mut number) = (Vec::new(), 0);
        loop {
            text.clear();
            let n = (&mut file).take(LONGEST).read_until(b'\n', &mut text)?;
            if n == 0 {
                return Ok(());
            }
            number += 1;
            if text.last() != Some(&b'\n') {
                // A crash or a full disk left it half written: nobody was told that it held. What is long without an end is no line of ours.
                self.fault(format!("Line {number} has no end; it was cut off, and nobody had been told that it held."));
                return Ok(());
            }
            text.pop();
            self.len += n as u64;
            let Some(line) = serde_json::from_slice::<Line>(&text).ok().filter(|l| (1..=MOST).contains(&l.seq)) else {
                self.fault(format!("Line {number} can't be read: the person it is about may have left."));
                continue;
            };
            let digest = digest(&text);
            if let Some((seq, journal, before)) = self.last.take() {
                if !line.before.is_empty() && line.before != before {
                    self.fault(format!("Line {number} doesn't follow the one before it: a line was changed or is missing."));
                } else if line.journal == journal && line.seq != seq + 1 {
                    self.fault(format!("Before line {number} the numbers {} to {} are missing.", seq + 1, line.seq - 1));
                }
            }
            let mark = marks.get(&line.journal);
            if mark.is_some_and(|m| m.upto == line.seq && !m.digest.is_empty() && m.digest != digest) {
                self.fault(format!("Line {number} isn't the one that the database knew by its number: the journal was changed."));
            }
            self.ends.insert(line.journal.clone(), Mark { upto: line.seq, digest: digest.clone() });
            self.last = Some((line.seq, line.journal.clone(), digest));
            if line.seq > mark.map_or(0, |m| m.upto) {
                self.unseen.push(line);
            }
        }
    }

    /// The file may end before what the database has seen, or be another.
    fn against(&mut self, marks: &Marks) {
        let known: Vec<(&String, &Mark)> = marks.iter().filter(|(_, m)| m.upto > 0).collect();
        for (journal, mark) in &known {
            if let Some(end) = self.ends.get(*journal).filter(|end| end.upto < mark.upto) {
                let words = format!(
                    "Its end is missing: the database has seen {} lines of it, the file has {}. Those are in the database; a restore of an older backup would not know them.",
                    mark.upto, end.upto
                );
                self.fault(words);
            }
        }
        if !known.is_empty() && !known.iter().any(|(journal, _)| self.ends.contains_key(*journal)) {
            let words = if self.last.is_none() {
                "It is gone, and a new one was begun. Put the former one back before a backup is restored: it knows who left since the backup was made."
            } else {
                "It is another one than the database knew. What it says holds; who left by the former one since a backup was made is not in it."
            };
            self.fault(words.to_owned());
        }
    }
}

/// Where lines are put: a file, or in tests one whose disk is full.
pub(crate) trait Paper: Send {
    fn append(&mut self, text: &[u8]) -> io::Result<()>;
    /// Puts what was appended on the disk.
    fn settle(&mut self) -> io::Result<()>;
    fn cut(&mut self, len: u64) -> io::Result<()>;
}

impl Paper for File {
    fn append(&mut self, text: &[u8]) -> io::Result<()> {
        self.write_all(text)
    }
    fn settle(&mut self) -> io::Result<()> {
        self.sync_data()
    }
    fn cut(&mut self, len: u64) -> io::Result<()> {
        self.set_len(len)?;
        self.sync_data()
    }
}

/// The open file: writes lines behind the last whole one.
pub(crate) struct Pen {
    paper: Box<dyn Paper>,
    id: String,
    seq: i64,
    last: String,
    len: u64,
    /// A line may be half there: nothing is written before it is cut off.
    torn: bool,
    durable: bool,
}

/// What a write left, for the database to note.
pub(crate) struct Written {
    pub(crate) journal: String,
    pub(crate) mark: Mark,
}

impl Pen {
    /// Opens the file behind what was read of it; a line without an end is cut off. Numbers go on from the greater of what the file and
    /// the database have, and a file that the database has seen more of begins a new id, so that its gap stays seen.
    ///
    /// # Errors
    /// When it can't be read or written.
    pub(crate) fn open(folder: &Path, whole: &Whole, marks: &Marks, fresh_id: &str, durable: bool) -> io::Result<Self> {
        let mut options = OpenOptions::new();
        options.read(true).append(true).create(true);
        crate::files::private(&mut options);
        let file = options.open(folder.join(FILE))?;
        if file.metadata()?.len() > whole.len {
            file.set_len(whole.len)?;
        }
        if durable {
            // Where the file is new its name has to be on the disk, too.
            file.sync_all()?;
            crate::files::sync_folder(folder)?;
        }
        Ok(Self::behind(Box::new(file), whole, marks, fresh_id, durable))
    }

    pub(crate) fn behind(paper: Box<dyn Paper>, whole: &Whole, marks: &Marks, fresh_id: &str, durable: bool) -> Self {
        let seen = marks.values().map(|m| m.upto).max().unwrap_or(0);
        let (seq, id, last) = whole.last.clone().unwrap_or_default();
        let goes_on = !id.is_empty() && seen <= seq;
        Self { paper, id: if goes_on { id } else { fresh_id.to_owned() }, seq: seq.max(seen), last, len: whole.len, torn: false, durable }
    }

    /// Writes lines, all or none: whatever fails, the file ends with a whole line before anything else is written to it.
    ///
    /// # Errors
    /// When the disk is full or the file can't be written; then none of them is there.
    pub(crate) fn write(&mut self, lines: Vec<Line>) -> io::Result<Option<Written>> {
        if lines.is_empty() {
            return Ok(None);
        }
        if self.torn {
            self.paper.cut(self.len)?;
            self.torn = false;
        }
        let (mut text, mut seq, mut last) = (Vec::new(), self.seq, self.last.clone());
        for mut line in lines {
            seq += 1;
            (line.seq, line.journal, line.before) = (seq, self.id.clone(), last);
            let json = serde_json::to_vec(&line)?;
            last = digest(&json);
            text.extend(json);
            text.push(b'\n');
        }
        let mut put = self.paper.append(&text);
        if put.is_ok() && self.durable {
            put = self.paper.settle();
        }
        if let Err(e) = put {
            self.torn = self.paper.cut(self.len).is_err();
            return Err(e);
        }
        self.len += text.len() as u64;
        (self.seq, self.last) = (seq, last);
        Ok(Some(Written { journal: self.id.clone(), mark: Mark { upto: self.seq, digest: self.last.clone() } }))
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use proptest::prelude::*;
    use std::sync::{Arc, Mutex};

    /// A disk with so much room left, which takes what it can of a write and then fails; cutting may fail, too.
    struct Full {
        bytes: Arc<Mutex<Vec<u8>>>,
        room: Arc<Mutex<usize>>,
        cuts_fail: Arc<Mutex<bool>>,
    }

    impl Paper for Full {
        fn append(&mut self, text: &[u8]) -> io::Result<()> {
            let mut room = self.room.lock().unwrap();
            let n = text.len().min(*room);
            *room -= n;
            self.bytes.lock().unwrap().extend(&text[..n]);
            if n < text.len() { Err(io::ErrorKind::StorageFull.into()) } else { Ok(()) }
        }
        fn settle(&mut self) -> io::Result<()> {
            Ok(())
        }
        fn cut(&mut self, len: u64) -> io::Result<()> {
            if *self.cuts_fail.lock().unwrap() {
                return Err(io::ErrorKind::StorageFull.into());
            }
            self.bytes.lock().unwrap().truncate(usize::try_from(len).unwrap());
            Ok(())
        }
    }

    fn line(who: &str) -> Line {
        Line {
            seq: 0,
            at: 1,
            what: What::Withdrew,
            who: who.into(),
            topic: None,
            entity: String::new(),
            channel: Channel::Email,
            journal: String::new(),
            before: String::new(),
        }
    }

    fn whole_of(bytes: &[u8], marks: &Marks) -> Whole {
        let folder = tempfile::tempdir().unwrap();
        std::fs::write(folder.path().join(FILE), bytes).unwrap();
        Whole::read(folder.path(), marks).unwrap()
    }

    proptest! {
        /// Whatever the disk has room for and whenever it gets more: every line whose writing was answered is in the file, in its order, and
        /// nothing else but, at the very end, what a last failed write left that couldn't be cut off. Nothing reads as half a line.
        #[test]
        fn a_full_disk_leaves_no_half_line(steps in prop::collection::vec((1usize..4, 0usize..700, any::<bool>()), 1..20)) {
            let (bytes, room, cuts_fail) = (Arc::new(Mutex::new(vec![])), Arc::new(Mutex::new(0)), Arc::new(Mutex::new(false)));
            let paper = Full { bytes: Arc::clone(&bytes), room: Arc::clone(&room), cuts_fail: Arc::clone(&cuts_fail) };
            let mut pen = Pen::behind(Box::new(paper), &Whole::default(), &Marks::new(), "one", true);
            let (mut answered, mut last) = (Vec::new(), Vec::new());
            for (i, (n, more, fails)) in steps.into_iter().enumerate() {
                *room.lock().unwrap() += more;
                *cuts_fail.lock().unwrap() = fails;
                let who: Vec<String> = (0..n).map(|j| format!("{i}-{j}")).collect();
                if pen.write(who.iter().map(|w| line(w)).collect()).is_ok() {
                    answered.extend(who);
                    last.clear();
                } else if !fails {
                    last.clear();
                } else if last.is_empty() {
                    last = who;
                }
            }
            *cuts_fail.lock().unwrap() = false;
            // Starting again cuts off whatever is half there.
            let found = whole_of(&bytes.lock().unwrap(), &Marks::new());
            let there: Vec<String> = found.unseen.iter().map(|l| l.who.clone()).collect();
            prop_assert_eq!(&there[..answered.len().min(there.len())], &answered[..]);
            prop_assert!(last.starts_with(&there[answered.len()..]), "{:?}", there);
            prop_assert!(found.faults.iter().all(|f| f.contains("has no end")), "{:?}", found.faults);
        }

        /// A line taken out, changed or put elsewhere is said, and so is an end that is cut off after the database saw it.
        #[test]
        fn whatever_is_done_to_a_file_is_seen(n in 3usize..9, at in 0usize..9, how in 0usize..4) {
            let bytes = Arc::new(Mutex::new(vec![]));
            let paper = Full { bytes: Arc::clone(&bytes), room: Arc::new(Mutex::new(1 << 20)), cuts_fail: Arc::default() };
            let mut pen = Pen::behind(Box::new(paper), &Whole::default(), &Marks::new(), "one", true);
            let written = pen.write((0..n).map(|i| line(&i.to_string())).collect()).unwrap().unwrap();
            let marks = Marks::from([(written.journal, written.mark)]);
            let text = String::from_utf8(bytes.lock().unwrap().clone()).unwrap();
            prop_assert!(whole_of(text.as_bytes(), &marks).faults.is_empty());
            let mut lines: Vec<String> = text.lines().map(str::to_owned).collect();
            let at = at % n;
            match how {
                0 => { lines.remove(at); }
                1 => lines[at] = lines[at].replace("\"at\":1", "\"at\":2"),
                2 => lines.swap(at, (at + 1) % n),
                _ => lines.truncate(n - 1),
            }
            // The first line's own loss shows by what the second says of it, unless it is all that the file had.
            let changed = lines.iter().map(|l| format!("{l}\n")).collect::<String>();
            let first_alone = how == 0 && at == 0;
            let found = whole_of(changed.as_bytes(), &marks);
            prop_assert!(!found.faults.is_empty() || first_alone, "{how} at {at}: {changed}");
        }
    }

    #[test]
    fn numbers_go_on_from_the_greater_of_file_and_database() {
        let marks = Marks::from([("one".to_owned(), Mark { upto: 7, digest: "x".into() })]);
        let gone = whole_of(b"", &marks);
        assert!(gone.faults[0].contains("It is gone"), "{:?}", gone.faults);
        let bytes = Arc::new(Mutex::new(vec![]));
        let paper = Full { bytes: Arc::clone(&bytes), room: Arc::new(Mutex::new(1 << 20)), cuts_fail: Arc::default() };
        let written = Pen::behind(Box::new(paper), &gone, &marks, "two", true).write(vec![line("a")]).unwrap().unwrap();
        assert_eq!((written.journal.as_str(), written.mark.upto), ("two", 8));
        // A database that was put back from before the loss replays it.
        let again = whole_of(&bytes.lock().unwrap(), &marks);
        assert_eq!((again.unseen.len(), again.faults.len()), (1, 1));
        assert!(again.faults[0].contains("another one"), "{:?}", again.faults);
    }
}
