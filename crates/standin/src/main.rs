//! `fencepost-standin`: what the outside world would deliver, made up.

use std::io::{BufWriter, Write as _};
use std::process::ExitCode;

use fencepost_standin::{days, write_fleet};

const USAGE: &str = "\
Usage:
  fencepost-standin fleet COUNT [SEED]   documents of COUNT devices, JSON Lines, to standard output
  fencepost-standin feeds DIR            the demo's feeds, all fourteen days, into DIR";

fn main() -> ExitCode {
    let args: Vec<String> = std::env::args().skip(1).collect();
    let args: Vec<&str> = args.iter().map(String::as_str).collect();
    let done = match args.as_slice() {
        ["fleet", count] => fleet(count, "brede"),
        ["fleet", count, seed] => fleet(count, seed),
        ["feeds", folder] => feeds(folder),
        _ => Err(USAGE.to_owned()),
    };
    match done {
        Ok(()) => ExitCode::SUCCESS,
        Err(message) => {
            eprintln!("{message}");
            ExitCode::from(2)
        }
    }
}

fn fleet(count: &str, seed: &str) -> Result<(), String> {
    let count = count.parse().map_err(|_| format!("`{count}` is no number of devices\n{USAGE}"))?;
    let mut out = BufWriter::with_capacity(1 << 18, std::io::stdout().lock());
    write_fleet(&mut out, count, seed).and_then(|()| out.flush()).map_err(|error| error.to_string())
}

fn feeds(folder: &str) -> Result<(), String> {
    for file in days().into_iter().flat_map(|day| day.feeds) {
        let path = std::path::Path::new(folder).join(file.path);
        let written =
            path.parent().map_or(Ok(()), std::fs::create_dir_all).and_then(|()| std::fs::write(&path, file.text));
        written.map_err(|error| format!("{}: {error}", path.display()))?;
    }
    Ok(())
}
