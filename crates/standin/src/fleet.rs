//! Fleets of any size, for measuring: documents of about 8 KB with 30 to 60 programs and a settings block that
//! no rule reads; in one device of fifty a group of facts is missing, in one of fifty a fact is of the wrong type.

use std::io::{self, Write};

use crate::json::{Object, list, text};
use crate::random::below;

/// Writes a fleet as JSON Lines, one device a line.
///
/// # Errors
/// When the output cannot be written.
pub fn write_fleet(out: &mut impl Write, devices: u64, seed: &str) -> io::Result<()> {
    for at in 0..devices {
        out.write_all(fleet_document(at, seed).as_bytes())?;
        out.write_all(b"\n")?;
    }
    Ok(())
}

/// Returns the document of one device.
pub fn fleet_document(at: u64, seed: &str) -> String {
    let number = at.to_string();
    let pick = |limit: u64, what: &str| below(limit, &[seed, &number, what]);
    let (missing, wrong) = (pick(50, "missing") == 0, pick(50, "wrong") == 0);
    let platform = ["windows", "macos", "linux", "android", "ios"][usize::try_from(pick(5, "platform")).unwrap_or(0)];
    let mut doc = Object::default();
    doc.text("device", &format!("unit-{at:07}"))
        .text("collected_at", &format!("2027-03-{:02}T{:02}:15:00Z", pick(9, "day") + 5, pick(24, "hour")));
    doc.text("platform", platform).text("site", &format!("site-{:02}", pick(40, "site")));
    doc.text("ownership", if pick(4, "ownership") == 0 { "personal" } else { "company" });
    let os = format!("{}.{}", pick(6, "major") + 10, pick(9, "minor"));
    doc.raw(
        "os",
        format!("{{\"name\":{},\"version\":{},\"build\":\"{}\"}}", text(platform), text(&os), pick(99_999, "build")),
    );
    doc.raw(
        "agent",
        format!(
            "{{\"version\":\"5.2.{}\",\"last_seen\":\"2027-03-{:02}T08:00:00Z\"}}",
            pick(4, "agent"),
            pick(14, "seen") + 1
        ),
    );
    if !missing {
        doc.raw(
            "lock",
            format!(
                "{{\"idle_minutes\":{},\"method\":\"pin\"}}",
                if wrong { "\"soon\"".to_owned() } else { (pick(30, "lock") + 1).to_string() }
            ),
        );
        doc.raw("password", format!("{{\"length\":{},\"history\":{}}}", pick(12, "length") + 6, pick(10, "history")));
        doc.raw("firewall", format!("{{\"enabled\":{}}}", pick(20, "firewall") > 0));
    }
    let disks = list((0..pick(3, "disks") + 1).map(|disk| {
        let what = disk.to_string();
        format!(
            "{{\"mount\":\"/vol{disk}\",\"writable\":{},\"encrypted\":{},\"size_bytes\":{}}}",
            below(4, &[seed, &number, "writable", &what]) > 0,
            below(25, &[seed, &number, "encrypted", &what]) > 0,
            (below(8, &[seed, &number, "size", &what]) + 1) * 128_000_000_000
        )
    }));
    doc.raw("disks", disks);
    const PROGRAMS: [&str; 16] = [
        "ebbnote",
        "hullplan",
        "soundings",
        "guardd",
        "logrotd",
        "tidewatch",
        "keelmail",
        "portview",
        "chartkit",
        "seedpool",
        "peepcam",
        "moorings",
        "winchctl",
        "pilotage",
        "lanternd",
        "anchorage",
    ];
    let programs = list((0..pick(31, "programs") + 30).map(|program| {
        let what = program.to_string();
        let name = PROGRAMS
            [usize::try_from(below(if program < 4 { 16 } else { 9 }, &[seed, &number, "program", &what])).unwrap_or(0)];
        let name = if program < 4 { name.to_owned() } else { format!("{name}-{program}") };
        format!(
            "{{\"name\":{},\"version\":\"{}.{}.{}\",\"vendor\":\"Brede Works\",\"installed\":\"2026-{:02}-11\"}}",
            text(&name),
            program % 9,
            below(12, &[seed, &number, "v", &what]),
            below(30, &[seed, &number, "w", &what]),
            program % 12 + 1
        )
    }));
    doc.raw("software", programs);
    doc.raw(
        "processes",
        list(
            ["guardd", "logrotd", "sshd"]
                .iter()
                .filter(|name| **name != "guardd" || pick(30, "guardd") > 0)
                .map(|name| format!("{{\"name\":{}}}", text(name))),
        ),
    );
    let mut settings = Object::default();
    for setting in 0..105 {
        settings.text(
            &format!("section.{}.key_{setting}", setting % 7),
            &format!("value-{}", below(1000, &[seed, &number, "setting", &setting.to_string()])),
        );
    }
    doc.raw("settings", settings.build());
    doc.build()
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn documents_have_the_size_that_is_promised() {
        let total: usize = (0..200).map(|at| fleet_document(at, "t").len()).sum();
        assert!((6_000..9_000).contains(&(total / 200)), "{}", total / 200);
        assert_eq!(fleet_document(7, "t"), fleet_document(7, "t"));
    }
}
