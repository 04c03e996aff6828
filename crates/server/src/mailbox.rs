//! A mailbox as a folder, by the convention that mail programs share: a message is written in `tmp`, stands whole in `new`,
//! and goes to `cur` once it was read. Its name begins with the second of its delivery.

use std::fs;
use std::io::{self, Write};
use std::path::{Path, PathBuf};

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
        for folder in ["tmp", "new", "cur"] {
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

    /// Marks a message as read.
    pub(crate) fn taken(&self, message: &Waiting) -> io::Result<()> {
        let name = message.path.file_name().unwrap_or_default().to_string_lossy();
        fs::rename(&message.path, self.root.join("cur").join(format!("{name}:2,S")))
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
        waiting.iter().for_each(|w| mailbox.taken(w).unwrap());
        assert_eq!(mailbox.waiting(10).unwrap(), []);
        assert_eq!(fs::read_dir(folder.path().join("cur")).unwrap().count(), 3);
    }
}
