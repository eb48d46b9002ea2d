//! A folder of files, one a delivery: for trials, and for tools that watch a folder.

use std::fs;
use std::io::{self, Write as _};
use std::path::PathBuf;

use crate::mail::mail_of;
use crate::{Channel, Content, Failure, Outcome, Outgoing};

/// A folder in which each delivery becomes a file: a mail (`.eml`), or an event (`.json`).
#[derive(Debug)]
pub struct Folder {
    path: PathBuf,
    from: String,
}

impl Folder {
    /// Returns a folder, which is made when it is needed. `from` is whom mails in it come from.
    pub fn new(path: PathBuf, from: String) -> Self {
        Self { path, from }
    }

    /// Writes a file whole, or not at all; one that is there already stays, since it is the same delivery.
    fn write(&self, name: &str, bytes: &[u8]) -> io::Result<()> {
        fs::create_dir_all(&self.path)?;
        let mut file = tempfile::NamedTempFile::new_in(&self.path)?;
        file.write_all(bytes)?;
        file.as_file().sync_all()?;
        match file.persist_noclobber(self.path.join(name)) {
            Err(error) if error.error.kind() == io::ErrorKind::AlreadyExists => Ok(()),
            Err(error) => Err(error.error),
            Ok(_) => Ok(()),
        }
    }
}

impl Channel for Folder {
    fn deliver(&mut self, outgoing: &Outgoing<'_>) -> Outcome {
        let (bytes, ending) = match &outgoing.content {
            Content::Message { .. } => match mail_of(outgoing, &self.from) {
                Ok(mail) => (mail.formatted(), "eml"),
                Err(because) => return Outcome::NotDelivered(Failure::of_delivery(because)),
            },
            Content::Event(event) => (format!("{event:#}\n").into_bytes(), "json"),
        };
        let name = format!("{}-{}.{ending}", file_name_of(outgoing.to), outgoing.key);
        match self.write(&name, &bytes) {
            Ok(()) => Outcome::Delivered { answer: None },
            Err(error) => Outcome::NotDelivered(Failure::of_channel(format!("{}: {error}", self.path.display()))),
        }
    }
}

/// Returns what a file may be called after a receiver: letters, digits and a few signs, and not for ever long.
fn file_name_of(to: &str) -> String {
    const MOST_CHARACTERS: usize = 60;
    let is_plain = |c: char| c.is_ascii_alphanumeric() || matches!(c, '@' | '.' | '_' | '-');
    let name: String = to.chars().map(|c| if is_plain(c) { c } else { '_' }).take(MOST_CHARACTERS).collect();
    // A name that begins with a point is hidden, and two of them lead out of the folder.
    name.trim_start_matches('.').to_owned()
}

#[cfg(test)]
mod tests {
    use super::*;
    use serde_json::json;

    fn files(path: &std::path::Path) -> Vec<String> {
        let mut names: Vec<_> =
            fs::read_dir(path).unwrap().map(|entry| entry.unwrap().file_name().into_string().unwrap()).collect();
        names.sort();
        names
    }

    #[test]
    fn each_delivery_becomes_one_file_however_often_it_is_made() {
        let folder = tempfile::tempdir().unwrap();
        let path = folder.path().join("out");
        let mut channel = Folder::new(path.clone(), "desk@bredesound.example".to_owned());
        let event = json!({ "id": "k1" });
        let at = "2027-03-14T06:00:00Z".parse().unwrap();
        let ticket = Outgoing { key: "k1", at, to: "../../etc\n/desk", content: Content::Event(&event) };
        let message = Content::Message { subject: "Ahoy", text: "Hello", html: None };
        let mail = Outgoing { key: "k2", at, to: "brodunk@bredesound.example", content: message };
        for _ in 0..2 {
            assert_eq!(channel.deliver(&ticket), Outcome::Delivered { answer: None });
            assert_eq!(channel.deliver(&mail), Outcome::Delivered { answer: None });
        }
        assert_eq!(files(&path), ["_.._etc__desk-k1.json", "brodunk@bredesound.example-k2.eml"]);
        assert_eq!(fs::read_to_string(path.join("_.._etc__desk-k1.json")).unwrap(), "{\n  \"id\": \"k1\"\n}\n");
        fs::write(folder.path().join("file"), "").unwrap();
        let mut blocked = Folder::new(folder.path().join("file"), "desk@bredesound.example".to_owned());
        assert!(matches!(blocked.deliver(&mail), Outcome::NotDelivered(Failure { is_channel_down: true, .. })));
    }
}
