//! `fencepost`: which devices are not in the shape we agreed on, why, since when, and who loses access.

mod commands;
mod error;
mod ui;
mod view;

use std::process::ExitCode;

use clap::Parser;

fn main() -> ExitCode {
    let cli = commands::Cli::parse();
    let mut ui = ui::Ui::new(cli.common.color, cli.common.quiet);
    let result = commands::run(&mut ui, &cli).and_then(|code| ui.finish().map(|()| code).map_err(Into::into));
    match result {
        Ok(code) => code,
        Err(error) => error.report(&mut ui),
    }
}
