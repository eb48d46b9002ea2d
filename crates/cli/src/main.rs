//! `fencepost`: which devices are not in the shape we agreed on, why, since when, and who loses access.
// Doc comments on arguments are the help, where [source] is a table of a workspace file.
#![allow(rustdoc::broken_intra_doc_links)]

mod commands;
mod error;
mod ui;
mod view;

use std::io::{self, Write as _};
use std::process::ExitCode;
use std::sync::Arc;
use std::sync::atomic::AtomicBool;

use clap::Parser;
use fencepost_core::for_terminal;

fn main() -> ExitCode {
    report_limits_on_files();
    let cli = match commands::Cli::try_parse() {
        Ok(cli) => cli,
        Err(said) => return say(&said),
    };
    let mut ui = ui::Ui::new(cli.common.color, cli.common.quiet);
    let result = commands::run(&mut ui, &cli).and_then(|code| ui.finish().map(|()| code).map_err(Into::into));
    match result {
        Ok(code) => code,
        Err(error) => error.report(&mut ui),
    }
}

/// Lets a write beyond the limit on the size of files fail with an error, instead of ending the process without a word.
fn report_limits_on_files() {
    #[cfg(unix)]
    {
        // The write says what is wrong; that the signal came tells nothing more.
        let _ = signal_hook::flag::register(signal_hook::consts::SIGXFSZ, Arc::new(AtomicBool::new(false)));
    }
}

/// Prints the help, the version, or what is wrong with the command line, which may quote anything.
fn say(said: &clap::Error) -> ExitCode {
    let styled = said.render().ansi().to_string();
    let plain = said.render().to_string();
    if said.use_stderr() {
        let mut err = anstream::AutoStream::auto(io::stderr());
        let _ = write!(err, "{}", for_terminal(&styled));
        return ExitCode::from(u8::try_from(said.exit_code()).unwrap_or(error::USAGE));
    }
    let mut out = anstream::AutoStream::auto(io::stdout());
    let text = if io::IsTerminal::is_terminal(&io::stdout()) { styled } else { plain };
    match write!(out, "{}", for_terminal(&text)).and_then(|()| out.flush()) {
        Err(error) if error.kind() != io::ErrorKind::BrokenPipe => {
            let _ = writeln!(io::stderr(), "error: could not write the output: {error}");
            ExitCode::from(error::LEDGER)
        }
        _ => ExitCode::SUCCESS,
    }
}
