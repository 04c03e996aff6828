//! A mailbox as a folder, by the convention that mail programs share: a message is written in `tmp`, stands whole in `new`,
//! and goes to `cur` once it was read. Its name begins with the second of its delivery.
//!
//! While a message is read it stands in `aside`: one that ends the process doesn't end it again at each start. Found there at a
//! start, it is tried once more; what can't be read stays there.

use std::fs;
use std::io::{self, Write};
use std::path::{Path, PathBuf};

/// The end of the name of a message that couldn't be read …
const UNREADABLE: &str = ".unreadable";
/// … and of one that is tried again.
const AGAIN: &str = ".again";
/// Messages kept that were brought and couldn't be read.
const KEPT_ASIDE: usize = 1_000;

/// A mailbox on this machine.
#[derive(Debug, Clone)]
pub(crate) struct Maildir {
    root: PathBuf,
}

/// A message that nobody has read yet.
#[derive(Debug, Clone, PartialEq, Eq)]
pub(crate) struct Waiting {
    pub(crate) path: PathBuf,
    /// Milliseconds since 1970, when the name tells.
    pub(crate) delivered_at: Option<i64>,
}

impl Maildir {
    /// Opens a mailbox, and makes its folders where they are missing.
    pub(crate) fn open(root: &Path) -> io::Result<Self> {
        for folder in ["tmp", "new", "cur", "aside"] {
            fs::create_dir_all(root.join(folder))?;
        }
        Ok(Self { root: root.to_owned() })
    }

    /// Puts a message in, with the address that it was for. `unique` tells messages of the same millisecond apart.
    pub(crate) fn deliver(&self, at_ms: i64, unique: i64, to: &str, raw: &[u8]) -> io::Result<()> {
        let name = format!("{}.M{:06}Q{unique}.here", at_ms.div_euclid(1000), at_ms.rem_euclid(1000) * 1000);
        let being_written = self.root.join("tmp").join(&name);
        let mut file = fs::File::create(&being_written)?;
        // An address on two lines would begin a header of its own.
        write!(file, "Delivered-To: {}\r\n", to.replace(['\r', '\n'], " "))?;
        file.write_all(raw)?;
        file.sync_all()?;
        fs::rename(being_written, self.root.join("new").join(name))
    }

    /// The messages that wait, the first delivered first, at most so many. Whatever isn't a plain file is left alone.
    pub(crate) fn waiting(&self, most: usize) -> io::Result<Vec<Waiting>> {
        let mut all = Vec::new();
        for entry in fs::read_dir(self.root.join("new"))? {
            let entry = entry?;
            if entry.file_type()?.is_file() {
                all.push(Waiting { delivered_at: delivered_at(&entry.file_name().to_string_lossy()), path: entry.path() });
            }
        }
        all.sort_by(|a, b| a.delivered_at.cmp(&b.delivered_at).then_with(|| a.path.cmp(&b.path)));
        all.truncate(most);
        Ok(all)
    }

    fn moved(&self, message: &Waiting, folder: &str, rest: &str) -> io::Result<Waiting> {
        let name = message.path.file_name().unwrap_or_default().to_string_lossy();
        let path = self.root.join(folder).join(format!("{name}{rest}"));
        fs::rename(&message.path, &path)?;
        Ok(Waiting { path, delivered_at: message.delivered_at })
    }

    /// Takes a message up, to read it.
    pub(crate) fn take_up(&self, message: &Waiting) -> io::Result<Waiting> {
        self.moved(message, "aside", "")
    }

    /// It could not be taken in now: it waits again.
    pub(crate) fn put_back(&self, message: &Waiting) -> io::Result<()> {
        self.moved(message, "new", "").map(drop)
    }

    /// Marks a message as read.
    pub(crate) fn taken(&self, message: &Waiting) -> io::Result<()> {
        self.moved(message, "cur", ":2,S").map(drop)
    }

    /// Leaves a message aside for good.
    pub(crate) fn leave_aside(&self, message: &Waiting) -> io::Result<()> {
        self.moved(message, "aside", UNREADABLE).map(drop)
    }

    /// Keeps a message that was brought and can't be read.
    pub(crate) fn keep_aside(&self, name: &str, raw: &[u8]) -> io::Result<()> {
        let aside = self.root.join("aside");
        // Anybody who brings a great many fills no disk.
        if fs::read_dir(&aside)?.count() < KEPT_ASIDE {
            fs::write(aside.join(format!("{name}{UNREADABLE}")), raw)?;
        }
        Ok(())
    }

    /// Messages that were being read when the process ended wait again, once; the names of those that ended it twice.
    pub(crate) fn recover(&self) -> io::Result<Vec<String>> {
        let mut ended_it = Vec::new();
        for entry in fs::read_dir(self.root.join("aside"))? {
            let entry = entry?;
            let name = entry.file_name().to_string_lossy().into_owned();
            let message = Waiting { delivered_at: None, path: entry.path() };
            if name.ends_with(UNREADABLE) || !entry.file_type()?.is_file() {
                continue;
            }
            if name.ends_with(AGAIN) {
                self.leave_aside(&message)?;
                ended_it.push(name);
            } else {
                self.moved(&message, "new", AGAIN)?;
            }
        }
        Ok(ended_it)
    }

    /// Deletes every message that names an address, in whatever letters: somebody was deleted.
    pub(crate) fn forget(&self, address: &str) -> io::Result<usize> {
        let (mut gone, sought) = (0, address.as_bytes());
        // Anybody who was deleted before has none.
        if !address.contains('@') {
            return Ok(0);
        }
        for folder in ["new", "cur", "aside", "tmp"] {
            for entry in fs::read_dir(self.root.join(folder))? {
                let path = entry?.path();
                let Ok(raw) = fs::read(&path) else { continue };
                if raw.windows(sought.len()).any(|w| w.eq_ignore_ascii_case(sought)) {
                    fs::remove_file(path)?;
                    gone += 1;
                }
            }
        }
        Ok(gone)
    }
}

/// `1767225600.M250000Q7.here`: the second, and the part of it.
fn delivered_at(name: &str) -> Option<i64> {
    let (second, rest) = name.split_once('.')?;
    let micros = rest.strip_prefix('M').map_or(0, |m| m.chars().take(6).collect::<String>().parse().unwrap_or(0));
    second.parse::<i64>().ok()?.checked_mul(1000)?.checked_add(micros / 1000)
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn a_message_waits_once_with_its_address_and_instant() {
        let folder = tempfile::tempdir().unwrap();
        let mailbox = Maildir::open(folder.path()).unwrap();
        mailbox.deliver(2_500, 2, "boats@skerry-light.example\r\nX: y", b"Subject: later\r\n\r\nb").unwrap();
        mailbox.deliver(1_250, 1, "boats@skerry-light.example", b"Subject: first\r\n\r\na").unwrap();
        fs::create_dir(folder.path().join("new/a folder")).unwrap();
        fs::write(folder.path().join("new/from another program"), "Subject: x\n\ny").unwrap();
        let waiting = mailbox.waiting(10).unwrap();
        assert_eq!(waiting.iter().map(|w| w.delivered_at).collect::<Vec<_>>(), [None, Some(1_250), Some(2_500)]);
        let raw = fs::read_to_string(&waiting[2].path).unwrap();
        assert!(raw.starts_with("Delivered-To: boats@skerry-light.example  X: y\r\nSubject: later"), "{raw}");
        waiting.iter().for_each(|w| mailbox.taken(&mailbox.take_up(w).unwrap()).unwrap());
        assert_eq!(mailbox.waiting(10).unwrap(), []);
        assert_eq!(fs::read_dir(folder.path().join("cur")).unwrap().count(), 3);
        assert_eq!((mailbox.forget("BOATS@skerry-light.example").unwrap(), mailbox.forget("b@tern.example").unwrap()), (2, 0));
    }

    /// A message whose reading ends the process is tried once more, and then no more.
    #[test]
    fn what_ends_the_process_twice_stays_aside() {
        let folder = tempfile::tempdir().unwrap();
        let mailbox = Maildir::open(folder.path()).unwrap();
        mailbox.deliver(2_500, 2, "boats@skerry-light.example", b"x").unwrap();
        for left in [1, 1, 0] {
            let waiting = mailbox.waiting(10).unwrap();
            assert_eq!(waiting.len(), left);
            for w in &waiting {
                assert_eq!(w.delivered_at, Some(2_500), "it keeps its instant");
                mailbox.take_up(w).unwrap();
            }
            // The process ends here, and starts again.
            let ended_it = mailbox.recover().unwrap();
            assert!(ended_it.is_empty() || mailbox.waiting(10).unwrap().is_empty());
        }
        assert!(mailbox.recover().unwrap().is_empty(), "it is said once");
        assert_eq!(fs::read_dir(folder.path().join("aside")).unwrap().count(), 1);
    }
}
