//! `fencepost-standin`: what the outside world would deliver, made up.

use std::io::{BufWriter, Write as _};
use std::process::ExitCode;

use fencepost_standin::services::{Behaviour, CommandStation, MailSink, TicketDesk};
use fencepost_standin::{days, write_fleet};

const USAGE: &str = "\
Usage:
  fencepost-standin fleet COUNT [SEED]   documents of COUNT devices, JSON Lines, to standard output
  fencepost-standin feeds DIR            the demo's feeds, all fourteen days, into DIR
  fencepost-standin services [NAME=BEHAVIOUR]..
                                         a mail server, a ticket desk and a station for commands on this machine: prints
                                         where they are, then what comes; NAME is mail, tickets or commands, BEHAVIOUR
                                         takes, refuses, is-busy, is-slow, drops-before, drops-after, redirects,
                                         answers-nonsense or answers-at-length";

fn main() -> ExitCode {
    let args: Vec<String> = std::env::args().skip(1).collect();
    let args: Vec<&str> = args.iter().map(String::as_str).collect();
    let done = match args.as_slice() {
        ["fleet", count] => fleet(count, "brede"),
        ["fleet", count, seed] => fleet(count, seed),
        ["feeds", folder] => feeds(folder),
        ["services", behaviours @ ..] => services(behaviours),
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

/// Starts all services, and prints what comes to them until the process is ended.
fn services(behaviours: &[&str]) -> Result<(), String> {
    let failed = |error: std::io::Error| error.to_string();
    let (mail, tickets) = (MailSink::start().map_err(failed)?, TicketDesk::start().map_err(failed)?);
    let commands = CommandStation::start().map_err(failed)?;
    for asked in behaviours {
        let (name, word) = asked.split_once('=').unwrap_or_default();
        let behaviour = Behaviour::parse(word).ok_or_else(|| format!("`{asked}` is no behaviour\n{USAGE}"))?;
        match name {
            "mail" => mail.behave(behaviour),
            "tickets" => tickets.behave(behaviour),
            "commands" => commands.behave(behaviour),
            _ => return Err(format!("there is no service `{name}`\n{USAGE}")),
        }
    }
    println!("mail      {}\ntickets   {}\ncommands  {}", mail.address, tickets.url(), commands.url());
    let (mut mails, mut raised, mut commanded) = (0, 0, 0);
    loop {
        for mail in mail.received().iter().skip(mails) {
            mails += 1;
            println!("mail      to {}: {}", mail.to.join(", "), mail.header("Subject").unwrap_or_default());
        }
        for event in tickets.received().iter().skip(raised) {
            raised += 1;
            println!("ticket    {}", event.key);
        }
        for event in commands.received().iter().skip(commanded) {
            commanded += 1;
            println!("command   {}", event.key);
        }
        std::thread::sleep(std::time::Duration::from_millis(200));
    }
}
