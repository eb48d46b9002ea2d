//! Brede Sound Ferries over fourteen days: who and what there is, and what happens to it.
//!
//! [`story`] is the one place where something is not as it should be; everything else is in order.

use crate::json::{Object, list, text};
use crate::random::below;

/// The files of the demo's workspace: path and text.
pub fn workspace_files() -> [(&'static str, &'static str); 30] {
    [
        ("fencepost.toml", include_str!("../demo/fencepost.toml")),
        ("facts.toml", include_str!("../demo/facts.toml")),
        ("groups.toml", include_str!("../demo/groups.toml")),
        ("access.toml", include_str!("../demo/access.toml")),
        ("terms.toml", include_str!("../demo/terms.toml")),
        ("terms/own-devices.txt", include_str!("../demo/terms/own-devices.txt")),
        ("corrections.toml", include_str!("../demo/corrections.toml")),
        ("waivers.toml", include_str!("../demo/waivers.toml")),
        ("responses.toml", include_str!("../demo/responses.toml")),
        ("bundles.toml", include_str!("../demo/bundles.toml")),
        ("drift.toml", include_str!("../demo/drift.toml")),
        ("templates/first-word.txt", include_str!("../demo/templates/first-word.txt")),
        ("templates/last-day.txt", include_str!("../demo/templates/last-day.txt")),
        ("templates/last-day.html", include_str!("../demo/templates/last-day.html")),
        ("templates/losing.txt", include_str!("../demo/templates/losing.txt")),
        ("templates/soon.txt", include_str!("../demo/templates/soon.txt")),
        ("templates/thanks.txt", include_str!("../demo/templates/thanks.txt")),
        ("templates/where-is-it.txt", include_str!("../demo/templates/where-is-it.txt")),
        ("baselines/kiosks.toml", include_str!("../demo/baselines/kiosks.toml")),
        ("baselines/laptops.toml", include_str!("../demo/baselines/laptops.toml")),
        ("baselines/ticket-servers.toml", include_str!("../demo/baselines/ticket-servers.toml")),
        ("baselines/unattended.toml", include_str!("../demo/baselines/unattended.toml")),
        ("rules/handhelds.toml", include_str!("../demo/rules/handhelds.toml")),
        ("rules/laptops.toml", include_str!("../demo/rules/laptops.toml")),
        ("rules/ships.toml", include_str!("../demo/rules/ships.toml")),
        ("controls.toml", include_str!("../demo/controls.toml")),
        ("examples/handhelds.toml", include_str!("../demo/examples/handhelds.toml")),
        ("logs/sign-ins.jsonl", include_str!("../demo/logs/sign-ins.jsonl")),
        ("logs/terminal-2027-03-13.csv", include_str!("../demo/logs/terminal-2027-03-13.csv")),
        ("examples/laptops.toml", include_str!("../demo/examples/laptops.toml")),
    ]
}

/// A file that a feed delivers.
#[derive(Clone, Debug)]
pub struct FeedFile {
    /// Its path in the workspace.
    pub path: String,
    /// What it holds.
    pub text: String,
}

/// One morning: what came in overnight, and when it is assessed.
#[derive(Clone, Debug)]
pub struct Day {
    /// The day of March 2027.
    pub day: u32,
    /// When it is assessed, RFC 3339: seven in the morning in Oslo.
    pub as_of: String,
    /// The files that came in.
    pub feeds: Vec<FeedFile>,
}

/// Returns the fourteen mornings in their order.
pub fn days() -> Vec<Day> {
    let people = people();
    let devices = devices(&people);
    (1..=14)
        .map(|day| {
            let mut feeds = Vec::new();
            if day == 1 {
                feeds.push(FeedFile { path: "feeds/people-2027-03.csv".to_owned(), text: people_csv(&people) });
                feeds.push(FeedFile { path: "feeds/accepted-2027-03.csv".to_owned(), text: accepted_csv(&devices) });
            }
            feeds.push(FeedFile {
                path: format!("feeds/agents-2027-03-{day:02}.jsonl"),
                text: agents_jsonl(&devices, day),
            });
            feeds.push(FeedFile {
                path: format!("feeds/handhelds-2027-03-{day:02}.csv"),
                text: handhelds_csv(&devices, day),
            });
            feeds.extend(results(day));
            Day { day, as_of: format!("2027-03-{day:02}T06:00:00Z"), feeds }
        })
        .collect()
}

/// What stands in a feed where the delivery of the last command is meant: its key is known once it was sent.
pub const LAST_COMMAND: &str = "LAST-COMMAND";

/// What is said of settings that were asked for, and of commands that were sent.
fn results(day: u32) -> Option<FeedFile> {
    let line = |fields: &[(&str, &str)]| {
        let mut record = Object::default();
        for (key, value) in fields {
            record.text(key, value);
        }
        record.text("at", &format!("2027-03-{day:02}T04:00:00Z"));
        format!("{}\n", record.build())
    };
    let setting = |device: &str, state: &str, because: &str| {
        let fields = [("device", device), ("setting", "lock.idle_minutes"), ("state", state), ("because", because)];
        line(if because.is_empty() { &fields[..3] } else { &fields })
    };
    let (name, text) = match day {
        // The tablets are told to lock after ten minutes; the bridge of Puffin will not have it.
        9 => {
            let tablets = SHIPS.iter().flat_map(|ship| {
                (1..=2).map(move |number| (format!("{}-bridge-{number}", slug(ship)), *ship == "Puffin"))
            });
            let said = tablets.map(|(device, refuses)| match refuses {
                true => setting(&device, "refused", "the officer of the watch declined"),
                false => setting(&device, "carried-out", ""),
            });
            let laptop = setting("office-laptop-4", "asked", "");
            ("setup", said.chain([laptop]).collect())
        }
        12 => {
            let because = "the laptop is not enrolled for commands any more";
            ("commands", line(&[("delivery", LAST_COMMAND), ("state", "refused"), ("because", because)]))
        }
        _ => return None,
    };
    Some(FeedFile { path: format!("feeds/{name}-2027-03-{day:02}.jsonl"), text })
}

const SHIPS: [&str; 6] = ["Fulmar", "Gannet", "Petrel", "Puffin", "Razorbill", "Tern"];
const TERMINALS: [&str; 3] = ["Holm Quay", "Ness Pier", "Sund Landing"];

struct DemoPerson {
    id: String,
    name: String,
    unit: String,
    post: &'static str,
    lead: String,
}

fn slug(name: &str) -> String {
    name.to_lowercase().replace(' ', "-")
}

/// Ninety people: eleven on each ship, four at each terminal, nine in the office, three who look after it all.
fn people() -> Vec<DemoPerson> {
    const HEADS: [&str; 15] =
        ["Bro", "Dra", "Fjo", "Gla", "Hve", "Kro", "Lju", "Mju", "Nyr", "Plo", "Ska", "Sto", "Tve", "Vra", "Yrs"];
    const TAILS: [&str; 12] =
        ["bek", "dunk", "fonn", "gvelt", "krell", "lumm", "mott", "nask", "rupp", "sprett", "tvark", "vuld"];
    let mut people: Vec<DemoPerson> = Vec::new();
    let mut hire = |unit: String, post: &'static str, lead: &str| -> String {
        let at = people.len();
        let mixed = at * 37 % (HEADS.len() * TAILS.len());
        let name = format!("{}{}", HEADS[mixed % HEADS.len()], TAILS[mixed / HEADS.len()]);
        let id = format!("B-{}", 1001 + at);
        people.push(DemoPerson { id: id.clone(), name, unit, post, lead: lead.to_owned() });
        id
    };
    for ship in SHIPS.map(slug) {
        let master = hire(format!("ships/{ship}/bridge"), "master", "");
        for post in ["mate", "second mate"] {
            hire(format!("ships/{ship}/bridge"), post, &master);
        }
        let chief = hire(format!("ships/{ship}/engine"), "chief engineer", &master);
        for _ in 0..2 {
            hire(format!("ships/{ship}/engine"), "engineer", &chief);
        }
        let boatswain = hire(format!("ships/{ship}/deck"), "boatswain", &master);
        for _ in 0..4 {
            hire(format!("ships/{ship}/deck"), "deckhand", &boatswain);
        }
    }
    for terminal in TERMINALS.map(slug) {
        let lead = hire(format!("terminals/{terminal}"), "terminal lead", "");
        for _ in 0..3 {
            hire(format!("terminals/{terminal}"), "clerk", &lead);
        }
    }
    let head = hire("office".to_owned(), "head of office", "");
    for _ in 0..8 {
        hire("office".to_owned(), "officer", &head);
    }
    let desk = hire("it".to_owned(), "fleet desk", &head);
    for _ in 0..2 {
        hire("it".to_owned(), "technician", &desk);
    }
    people
}

fn people_csv(people: &[DemoPerson]) -> String {
    let mut out = String::from("Crew no.,Name,Mail,Unit,Lead,Post\r\n");
    for person in people {
        let mail = format!("{}@bredesound.example", person.name.to_lowercase());
        out.push_str(&format!(
            "{},{},{mail},{},{},{}\r\n",
            person.id, person.name, person.unit, person.lead, person.post
        ));
    }
    out
}

/// Who accepted the terms for private devices: all but two, of whom one accepted an earlier version.
fn accepted_csv(devices: &[Device]) -> String {
    let mut out = String::from("person,device,terms,version\r\n");
    for device in devices.iter().filter(|device| device.ownership == "personal" && device.id != "petrel-phone-6") {
        let version = if device.id == "tern-phone-7" { "2025" } else { "2026" };
        for holder in &device.holders {
            out.push_str(&format!("{holder},{},own-devices,{version}\r\n", device.id));
        }
    }
    out
}

#[derive(Clone, Copy, Debug, PartialEq, Eq)]
enum Role {
    TicketServer,
    Kiosk,
    BridgeTablet,
    Scanner,
    CrewPhone,
    Laptop,
}

impl Role {
    fn as_str(self) -> &'static str {
        match self {
            Self::TicketServer => "ticket-server",
            Self::Kiosk => "kiosk",
            Self::BridgeTablet => "bridge-tablet",
            Self::Scanner => "scanner",
            Self::CrewPhone => "crew-phone",
            Self::Laptop => "laptop",
        }
    }
}

struct Device {
    id: String,
    role: Role,
    platform: &'static str,
    site: String,
    ownership: &'static str,
    holders: Vec<String>,
}

fn devices(people: &[DemoPerson]) -> Vec<Device> {
    let of_unit = |unit: &str| -> Vec<&DemoPerson> { people.iter().filter(|person| person.unit == unit).collect() };
    let mut all = Vec::new();
    let mut add =
        |id: String, role: Role, platform: &'static str, site: &str, ownership: &'static str, holders: Vec<String>| {
            all.push(Device { id, role, platform, site: site.to_owned(), ownership, holders });
        };
    for ship in SHIPS {
        let name = slug(ship);
        let bridge = of_unit(&format!("ships/{name}/bridge"));
        let engine = of_unit(&format!("ships/{name}/engine"));
        let deck = of_unit(&format!("ships/{name}/deck"));
        add(format!("{name}-tickets"), Role::TicketServer, "linux", ship, "company", Vec::new());
        for number in 1..=2 {
            add(format!("{name}-kiosk-{number}"), Role::Kiosk, "linux", ship, "company", Vec::new());
        }
        let officers = bridge.iter().map(|person| person.id.clone()).collect();
        add(format!("{name}-bridge-1"), Role::BridgeTablet, "android", ship, "company", officers);
        add(
            format!("{name}-bridge-2"),
            Role::BridgeTablet,
            "android",
            ship,
            "company",
            vec![engine[0].id.clone(), deck[0].id.clone()],
        );
        // Most of the crew have a phone; the last two deckhands have none.
        for (at, person) in engine.iter().chain(&deck).chain(&bridge).take(9).enumerate() {
            let platform = if below(3, &["phone", &person.id]) == 0 { "ios" } else { "android" };
            add(
                format!("{name}-phone-{}", at + 1),
                Role::CrewPhone,
                platform,
                ship,
                "personal",
                vec![person.id.clone()],
            );
        }
        // The one of Puffin went overboard.
        if ship != "Puffin" {
            add(format!("{name}-scanner-1"), Role::Scanner, "android", ship, "company", Vec::new());
        }
        add(format!("{name}-laptop-chief"), Role::Laptop, "windows", ship, "company", vec![engine[0].id.clone()]);
        add(format!("{name}-laptop-master"), Role::Laptop, "windows", ship, "company", vec![bridge[0].id.clone()]);
    }
    for terminal in TERMINALS {
        let name = slug(terminal);
        let staff = of_unit(&format!("terminals/{name}"));
        add(format!("{name}-tickets"), Role::TicketServer, "linux", terminal, "company", Vec::new());
        for number in 1..=3 {
            add(format!("{name}-kiosk-{number}"), Role::Kiosk, "linux", terminal, "company", Vec::new());
        }
        for number in 1..=5 {
            add(format!("{name}-scanner-{number}"), Role::Scanner, "android", terminal, "company", Vec::new());
        }
        add(format!("{name}-laptop"), Role::Laptop, "windows", terminal, "company", vec![staff[0].id.clone()]);
    }
    for (unit, short) in [("office", "office"), ("it", "it")] {
        for (at, person) in of_unit(unit).iter().enumerate() {
            let platform = if at % 3 == 2 { "macos" } else { "windows" };
            add(
                format!("{short}-laptop-{}", at + 1),
                Role::Laptop,
                platform,
                "Office",
                "company",
                vec![person.id.clone()],
            );
        }
    }
    for (at, person) in of_unit("office").iter().skip(3).take(3).enumerate() {
        add(
            format!("office-own-laptop-{}", at + 1),
            Role::Laptop,
            "macos",
            "Office",
            "personal",
            vec![person.id.clone()],
        );
    }
    all
}

/// What is not as it should be with a device on a day.
#[derive(Default)]
struct Trouble {
    silent: bool,
    root_login: bool,
    short_logs: bool,
    few_workers: bool,
    no_guardd: bool,
    rooted: bool,
    old_system: bool,
    old_charts: bool,
    slow_lock: bool,
    firewall_off: bool,
    not_encrypted: bool,
    encryption_pending: bool,
    encryption_unknown: bool,
    no_disks: bool,
    odd_password: bool,
    booked_as_own: bool,
    export_lags: bool,
    program: Option<&'static str>,
    certificate_ends: Option<&'static str>,
    allowance_used: bool,
    disk_filling: bool,
    few_free: bool,
    slow_scanner: bool,
}

/// The story, day by day: the only place where anything is wrong.
fn story(device: &Device, day: u32) -> Trouble {
    let mut trouble = Trouble::default();
    let id = device.id.as_str();
    // The bridge agreed on thirty minutes long ago; ten are asked for now, and set on the ninth. Puffin's is manned day and night.
    if device.role == Role::BridgeTablet && (day < 9 || device.site == "Puffin") {
        trouble.slow_lock = true;
    }
    // Petrel is out of reach for six days.
    if device.site == "Petrel" && matches!(device.role, Role::TicketServer | Role::Kiosk) && (5..=10).contains(&day) {
        trouble.silent = true;
    }
    // A few laptops would fail the rule that is on trial.
    if device.role == Role::Laptop && below(6, &["firewall", id]) == 0 {
        trouble.firewall_off = true;
    }
    // Some scanners got a newer radio, and are slow since; nobody knows why.
    trouble.slow_scanner = device.role == Role::Scanner && day >= 6 && has_new_radio(id);
    match id {
        // Repaired on the first, and set up as it was three years ago.
        "tern-tickets" if day >= 2 => {
            trouble.root_login = true;
            trouble.short_logs = true;
            trouble.few_workers = true;
        }
        "fulmar-kiosk-2" if day >= 3 => trouble.no_guardd = true,
        // Taken out for the refit, with half of its programs.
        "razorbill-kiosk-2" if day >= 5 => trouble.no_guardd = true,
        "razorbill-phone-4" if day >= 4 => trouble.rooted = true,
        "gannet-phone-2" => trouble.old_system = true,
        // Put back from an old copy on the first; nobody notices for twelve days.
        "puffin-bridge-1" if day >= 2 => trouble.old_charts = true,
        // Fixed for an afternoon, and set back.
        "office-laptop-4" if day >= 3 && day != 6 => trouble.slow_lock = true,
        // Encryption is set; only the restart is missing.
        "puffin-laptop-chief" if day >= 9 => {
            trouble.not_encrypted = true;
            trouble.encryption_pending = true;
        }
        "ness-pier-tickets" => trouble.certificate_ends = Some("2027-03-12T12:00:00Z"),
        // Charts need a valid certificate, and nobody has ordered a new one.
        "gannet-bridge-1" => trouble.certificate_ends = Some("2027-03-15T20:00:00Z"),
        "office-laptop-7" if day >= 6 => trouble.program = Some("seedpool"),
        "office-laptop-2" if (9..=11).contains(&day) => trouble.program = Some("peepcam"),
        "gannet-bridge-2" => trouble.booked_as_own = true,
        // The two feeds disagree: the export has not heard of the update.
        "tern-bridge-1" => trouble.export_lags = true,
        // Two scanners that nobody thought of when the rule was written.
        "ness-pier-scanner-2" | "ness-pier-scanner-5" => trouble.not_encrypted = true,
        // The export has no answer for this phone.
        "tern-phone-5" => trouble.encryption_unknown = true,
        "office-laptop-9" if day >= 12 => trouble.odd_password = true,
        "it-laptop-2" => trouble.no_disks = true,
        "sund-landing-kiosk-1" => trouble.allowance_used = true,
        // Its recordings are never cleared.
        "ness-pier-kiosk-2" if day >= 8 => trouble.disk_filling = true,
        "holm-quay-tickets" => trouble.few_free = true,
        _ => {}
    }
    trouble
}

/// The scanners with the newer radio: every second one of a terminal, and those of two ships.
fn has_new_radio(id: &str) -> bool {
    id.ends_with("scanner-2") || id.ends_with("scanner-4") || matches!(id, "gannet-scanner-1" | "petrel-scanner-1")
}

/// When the agent collected a device's state in the night before `day`, RFC 3339.
fn collected(device: &Device, day: u32) -> String {
    // Between 20:00 and 04:00 in UTC.
    let minute = below(480, &["collected", &device.id, &day.to_string()]) + 20 * 60;
    let (date, minute) = if minute >= 24 * 60 { (day, minute - 24 * 60) } else { (day - 1, minute) };
    let date = if date == 0 { "2027-02-28".to_owned() } else { format!("2027-03-{date:02}") };
    format!("{date}T{:02}:{:02}:00Z", minute / 60, minute % 60)
}

fn agents_jsonl(devices: &[Device], day: u32) -> String {
    let mut out = String::new();
    for device in devices {
        let speaks = matches!(device.role, Role::TicketServer | Role::Kiosk | Role::BridgeTablet | Role::Laptop);
        let trouble = story(device, day);
        // Now and then a laptop is switched off for a night.
        let sleepy = device.role == Role::Laptop && day > 1 && !AWAKE.contains(&device.id.as_str());
        let asleep = sleepy && below(9, &["asleep", &device.id, &day.to_string()]) == 0;
        if speaks && !trouble.silent && !asleep {
            out.push_str(&agent_document(device, day, &trouble));
            out.push('\n');
        }
    }
    // The line to Petrel breaks in the middle of a document.
    if day == 4 {
        out.push_str("{\"device\":\"petrel-kiosk-1\",\"collected_at\":\"2027-03-0\n");
    }
    out
}

/// Laptops whose story is told day by day, so that they never sleep through a night of it.
const AWAKE: [&str; 5] =
    ["office-laptop-2", "office-laptop-4", "office-laptop-7", "office-laptop-9", "puffin-laptop-chief"];

/// Who uses a device on a day. On the last one the boatswain of Razorbill hands the tablet of the deck on to an engineer.
fn holders_on(device: &Device, day: u32) -> Vec<String> {
    let mut holders = device.holders.clone();
    if device.id == "razorbill-bridge-2" && day >= 14 {
        holders.truncate(1);
        holders.push("B-1049".to_owned());
    }
    holders
}

fn agent_document(device: &Device, day: u32, trouble: &Trouble) -> String {
    let id = device.id.as_str();
    let at = collected(device, day);
    let mut doc = Object::default();
    doc.text("device", id)
        .text("collected_at", &at)
        .text("platform", device.platform)
        .text("role", device.role.as_str());
    doc.text("site", &device.site).text("ownership", device.ownership);
    match holders_on(device, day).as_slice() {
        [] => {}
        [one] => {
            doc.text("person", one);
        }
        many => {
            doc.raw("person", list(many.iter().map(|holder| text(holder))));
        }
    }
    let version = match (device.platform, trouble.old_system) {
        ("linux", _) => "6.1.55",
        ("windows", _) => "10.0.22631",
        ("macos", _) => "14.4.1",
        (_, true) => "11.0",
        (_, false) => "13.0",
    };
    doc.raw("os", format!("{{\"name\":{},\"version\":{}}}", text(device.platform), text(version)));
    doc.raw("agent", format!("{{\"version\":\"5.2.{}\",\"last_seen\":{}}}", below(3, &["agent", id]), text(&at)));
    doc.raw("net", format!("{{\"address\":\"192.0.2.{}\"}}", below(250, &["address", id, &day.to_string()]) + 2));
    let free = match device.role {
        // Sister servers hold about the same.
        Role::TicketServer if trouble.few_free => 24_500_000_000,
        Role::TicketServer => 29_500_000_000 + below(40, &["free", id, &day.to_string()]) * 50_000_000,
        Role::Kiosk if trouble.disk_filling => 8_400_000_000,
        _ => 20_000_000_000 + below(400, &["free", id, &day.to_string()]) * 50_000_000,
    };
    match device.role {
        Role::TicketServer => server(&mut doc, id, trouble, free),
        Role::Kiosk => kiosk(&mut doc, trouble, free),
        Role::BridgeTablet => {
            doc.raw("lock", format!("{{\"idle_minutes\":{}}}", if trouble.slow_lock { 30 } else { 10 }));
            doc.raw(
                "charts",
                format!("{{\"edition\":\"{}\"}}", if trouble.old_charts { "2024-11-01" } else { "2027-02-01" }),
            );
            let ends = trouble.certificate_ends.unwrap_or("2028-06-01T12:00:00Z");
            doc.raw("certificate", format!("{{\"not_after\":{}}}", text(ends)));
        }
        Role::Laptop => laptop(&mut doc, id, device.platform, trouble, free),
        Role::Scanner | Role::CrewPhone => {}
    }
    doc.build()
}

fn processes(names: &[&str]) -> String {
    list(names.iter().map(|name| format!("{{\"name\":{},\"user\":\"system\"}}", text(name))))
}

fn server(doc: &mut Object, id: &str, trouble: &Trouble, free: u64) {
    doc.raw(
        "sshd",
        format!("{{\"permit_root_login\":\"{}\",\"port\":22}}", if trouble.root_login { "yes" } else { "no" }),
    );
    doc.raw("log", format!("{{\"retention_days\":{},\"level\":\"info\"}}", if trouble.short_logs { 7 } else { 35 }));
    doc.raw("queue", format!("{{\"workers\":{}}}", if trouble.few_workers { 4 } else { 8 }));
    let ends = trouble
        .certificate_ends
        .map_or_else(|| format!("2027-{:02}-20T12:00:00Z", 6 + below(6, &["certificate", id])), str::to_owned);
    doc.raw("certificate", format!("{{\"not_after\":{}}}", text(&ends)));
    doc.raw("disk.free_bytes", free);
    doc.raw("processes", processes(&["ticketd", "sshd", "guardd", "logrotd"]));
}

fn kiosk(doc: &mut Object, trouble: &Trouble, free: u64) {
    let names: &[&str] =
        if trouble.no_guardd { &["soundings", "ebbnote"] } else { &["soundings", "ebbnote", "guardd"] };
    doc.raw("processes", processes(names));
    doc.raw("disk.free_bytes", free / 4);
    let used = if trouble.allowance_used { 9_640 } else { 2_310 };
    doc.raw("data", format!("{{\"used_mb\":{used},\"allowance_mb\":10000}}"));
}

fn laptop(doc: &mut Object, id: &str, platform: &str, trouble: &Trouble, free: u64) {
    let (system, second) = if platform == "macos" { ("/", "/Volumes/install") } else { ("C:", "D:") };
    let disks = if trouble.no_disks {
        "[]".to_owned()
    } else {
        list([
            format!("{{\"mount\":{},\"writable\":true,\"encrypted\":{}}}", text(system), !trouble.not_encrypted),
            format!("{{\"mount\":{},\"writable\":false,\"encrypted\":false}}", text(second)),
        ])
    };
    doc.raw("disks", disks);
    doc.raw("disk", format!("{{\"free_bytes\":{free},\"encryption_pending\":{}}}", trouble.encryption_pending));
    let mut programs = vec![("ebbnote", "3.4.0"), ("hullplan", "4.2.1"), ("soundings", "2.0"), ("guardd", "7.1.3")];
    programs.extend(trouble.program.map(|name| (name, "1.0")));
    let programs = programs.into_iter().filter(|(name, _)| *name != "hullplan" || below(2, &["hullplan", id]) == 0);
    doc.raw(
        "software",
        list(programs.map(|(name, version)| format!("{{\"name\":{},\"version\":{}}}", text(name), text(version)))),
    );
    doc.raw("lock", format!("{{\"idle_minutes\":{}}}", if trouble.slow_lock { 60 } else { 10 }));
    doc.raw("password", format!("{{\"length\":{}}}", if trouble.odd_password { "\"twelve\"" } else { "12" }));
    doc.raw("firewall", format!("{{\"enabled\":{}}}", !trouble.firewall_off));
}

fn handhelds_csv(devices: &[Device], day: u32) -> String {
    let mut out = String::from(
        "Asset tag,Exported at,Platform,Role,Site,Model,OS ver.,Encrypted?,Rooted?,Lock after (min),Free (GB),Booked as,Issued to,Scan (ms),Radio,Radio power\r\n",
    );
    for device in devices {
        if !matches!(device.role, Role::BridgeTablet | Role::Scanner | Role::CrewPhone) {
            continue;
        }
        let trouble = story(device, day);
        let yes = |truth: bool| if truth { "Yes" } else { "No" };
        let encrypted = if trouble.encryption_unknown { "" } else { yes(!trouble.not_encrypted) };
        let version = match (device.platform, trouble.old_system, trouble.export_lags) {
            ("ios", ..) => "17.3",
            (_, true, _) => "11.0",
            (_, _, true) => "12.1",
            _ => "13.0",
        };
        let lock = if trouble.slow_lock { 30 } else { 5 };
        let free = 8 + below(40, &["free", &device.id]);
        let booked = if trouble.booked_as_own { "personal" } else { device.ownership };
        let model = match device.role {
            Role::BridgeTablet => "Skerry T10",
            Role::Scanner => "Quay S2",
            Role::TicketServer | Role::Kiosk | Role::CrewPhone | Role::Laptop => "Crew phone",
        };
        let holder = device.holders.first().map_or("", String::as_str);
        let scanner = match (device.role, has_new_radio(&device.id)) {
            (Role::Scanner, true) => {
                let slow = if trouble.slow_scanner { 420 } else { 0 };
                format!("{},R4,auto", 180 + slow + below(60, &["scan", &device.id, &day.to_string()]))
            }
            (Role::Scanner, false) => format!("{},R3,full", 180 + below(60, &["scan", &device.id, &day.to_string()])),
            _ => ",,".to_owned(),
        };
        out.push_str(&format!(
            "{},2027-03-{day:02} 05:30,{},{},{},{model},{version},{encrypted},{},{lock},{free}.5,{booked},{holder},{scanner}\r\n",
            device.id,
            device.platform,
            device.role.as_str(),
            device.site,
            yes(trouble.rooted),
        ));
    }
    // Two rows that went wrong on their way.
    if day == 5 {
        out.push_str(",2027-03-05 05:30,android,crew-phone,Tern,Crew phone,13.0,Yes,No,5,9.5,personal,B-1002,,,\r\n");
    }
    if day == 9 {
        out.push_str("tern-phone-9,2027-03-09 05:30,android\r\n");
    }
    out
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn the_company_has_its_size_and_every_id_once() {
        let people = people();
        let devices = devices(&people);
        assert_eq!(people.len(), 90);
        assert!((140..=150).contains(&devices.len()), "{}", devices.len());
        let mut ids: Vec<&str> = devices.iter().map(|device| device.id.as_str()).collect();
        ids.sort_unstable();
        ids.dedup();
        assert_eq!(ids.len(), devices.len());
        let mut names: Vec<&str> = people.iter().map(|person| person.name.as_str()).collect();
        names.sort_unstable();
        names.dedup();
        assert_eq!(names.len(), 90);
    }

    #[test]
    fn the_days_are_the_same_every_time() {
        let (first, second) = (days(), days());
        assert_eq!(first.len(), 14);
        for (a, b) in first.iter().zip(&second) {
            assert!(a.feeds.iter().zip(&b.feeds).all(|(a, b)| a.text == b.text));
        }
    }
}
