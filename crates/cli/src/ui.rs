//! Where output goes: results to stdout, everything else to stderr; colour and character set decided once.

use std::fmt::Display;
use std::io::{self, BufWriter, IsTerminal, Write};

use clap::ValueEnum;
use indicatif::{ProgressBar, ProgressStyle};
use serde::Serialize;

use fencepost_core::{for_terminal, harmless, push_json};

use crate::view::next_step::NextStep;
use crate::view::style::Styles;

/// When to colour.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq, ValueEnum)]
pub enum Color {
    /// On a terminal, unless NO_COLOR is set
    #[default]
    Auto,
    /// Even in a pipe
    Always,
    /// Not at all
    Never,
}

pub struct Ui {
    out: BufWriter<Box<dyn Write + Send>>,
    quiet: bool,
    /// JSON on its way out.
    escaped: Vec<u8>,
    /// Columns that a table may take.
    pub width: usize,
    /// Characters beyond ASCII can be shown.
    pub unicode: bool,
    /// Styles of stdout.
    pub styles: Styles,
    /// Styles of stderr.
    pub err_styles: Styles,
}

/// So many bytes of output are written at once.
const BUFFER: usize = 1 << 16;
/// Tables in a pipe are as wide as this.
const PIPE_WIDTH: usize = 120;

impl Ui {
    pub fn new(color: Color, quiet: bool) -> Self {
        let no_color = std::env::var_os("NO_COLOR").is_some_and(|value| !value.is_empty());
        let dumb = std::env::var("TERM").is_ok_and(|term| term == "dumb");
        let styles = |terminal: bool| match color {
            Color::Always => Styles::colored(),
            Color::Auto if terminal && !no_color && !dumb => Styles::colored(),
            Color::Auto | Color::Never => Styles::plain(),
        };
        let terminal = io::stdout().is_terminal();
        let columns = std::env::var("COLUMNS").ok().and_then(|text| text.parse().ok());
        let width = if terminal { terminal_size::terminal_size().map(|(width, _)| usize::from(width.0)) } else { None };
        Self {
            out: BufWriter::with_capacity(BUFFER, Box::new(io::stdout())),
            quiet,
            escaped: Vec::new(),
            width: width.or(columns).unwrap_or(PIPE_WIDTH).max(40),
            unicode: locale_is_utf8(),
            styles: styles(terminal),
            err_styles: styles(io::stderr().is_terminal()),
        }
    }

    /// Writes a line of a result for people.
    pub fn line(&mut self, text: impl Display) -> io::Result<()> {
        writeln!(self.out, "{}", for_terminal(&text.to_string()))
    }

    /// Writes a text of a result for people.
    pub fn raw(&mut self, text: &str) -> io::Result<()> {
        self.out.write_all(for_terminal(text).as_bytes())
    }

    /// Writes JSON.
    pub fn json(&mut self, text: &str) -> io::Result<()> {
        self.escaped.clear();
        push_json(&mut self.escaped, text);
        self.out.write_all(&self.escaped)
    }

    /// Writes a value as indented JSON.
    pub fn pretty_json(&mut self, json: &impl Serialize) -> io::Result<()> {
        serde_json::to_writer_pretty(JsonWriter(self), json).map_err(io::Error::from)
    }

    /// Writes lines of CSV, in which nothing harmful is left.
    pub fn csv(&mut self, lines: &str) -> io::Result<()> {
        self.out.write_all(lines.as_bytes())
    }

    pub fn finish(&mut self) -> io::Result<()> {
        self.out.flush()
    }

    /// Writes what `write` does to a file instead.
    pub fn with_output_to<T, E: From<io::Error>>(
        &mut self,
        file: std::fs::File,
        write: impl FnOnce(&mut Self) -> Result<T, E>,
    ) -> Result<T, E> {
        self.out.flush()?;
        let own = std::mem::replace(&mut self.out, BufWriter::with_capacity(BUFFER, Box::new(file)));
        let written = write(self);
        let mut file = std::mem::replace(&mut self.out, own);
        file.flush()?;
        written
    }

    /// Returns whether only results and errors are wanted.
    pub fn is_quiet(&self) -> bool {
        self.quiet
    }

    /// Says something beside the result, unless asked to be quiet.
    pub fn note(&mut self, text: impl Display) {
        if !self.quiet {
            let _ = self.out.flush();
            let _ = writeln!(io::stderr(), "{}", for_terminal(&text.to_string()));
        }
    }

    /// Says beside the result what to run next, unless asked to be quiet.
    pub fn next_step(&mut self, step: NextStep<'_>) {
        self.note(format!("\nNext: {}", step.in_words()));
    }

    /// Says something beside the result, quiet or not.
    pub fn complain(&mut self, text: impl Display) {
        let _ = self.out.flush();
        let _ = writeln!(io::stderr(), "{}", for_terminal(&text.to_string()));
    }

    pub fn error(&mut self, message: &str, help: Option<&str>) {
        let (bad, faint) = (self.err_styles.bad, self.err_styles.faint);
        self.complain(format!("{bad}error{bad:#}: {}", harmless(message)));
        if let Some(help) = help {
            self.complain(format!("  {faint}help{faint:#}: {}", harmless(help)));
        }
    }

    /// A progress bar on a terminal; nothing in a pipe.
    pub fn progress(&self, length: u64, what: &str, bytes: bool) -> ProgressBar {
        if self.quiet || !io::stderr().is_terminal() {
            return ProgressBar::hidden();
        }
        let shown = if bytes { "{bytes} of {total_bytes}" } else { "{pos} of {len}" };
        let style = ProgressStyle::with_template(&format!("{{prefix}} {{wide_bar}} {shown}, {{eta}} left"))
            .unwrap_or_else(|_| ProgressStyle::default_bar());
        ProgressBar::new(length).with_style(style).with_prefix(what.to_owned())
    }
}

/// Takes JSON as it is made.
struct JsonWriter<'u>(&'u mut Ui);

impl Write for JsonWriter<'_> {
    fn write(&mut self, bytes: &[u8]) -> io::Result<usize> {
        // Texts are written whole, or in parts between two escapes.
        let text = std::str::from_utf8(bytes).map_err(io::Error::other)?;
        self.0.json(text)?;
        Ok(bytes.len())
    }

    fn flush(&mut self) -> io::Result<()> {
        Ok(())
    }
}

fn locale_is_utf8() -> bool {
    let set = ["LC_ALL", "LC_CTYPE", "LANG"]
        .into_iter()
        .find_map(|name| std::env::var(name).ok().filter(|value| !value.is_empty()));
    // With no locale at all, a terminal of today shows UTF-8; C and POSIX say that it does not.
    set.is_none_or(|value| {
        let value = value.to_lowercase();
        value.contains("utf-8") || value.contains("utf8")
    })
}
