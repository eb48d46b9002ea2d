//! The words by which exports in the large European languages call things: devices, moments, people, yes and no, units.

/// A word of a heading with how much it says.
pub(super) type Scored = (&'static str, u32);

/// Words for what names a device.
pub(super) const DEVICE: [Scored; 46] = [
    ("device", 6),
    ("asset", 6),
    ("hostname", 5),
    ("host", 5),
    ("tag", 4),
    ("machine", 4),
    ("computer", 4),
    ("computername", 5),
    ("udid", 4),
    ("uuid", 3),
    ("serial", 3),
    ("id", 3),
    ("name", 2),
    ("endpoint", 5),
    ("workstation", 5),
    ("gerät", 6),
    ("geraet", 6),
    ("gerätename", 6),
    ("endgerät", 6),
    ("rechner", 5),
    ("rechnername", 6),
    ("inventarnummer", 5),
    ("inventarnr", 5),
    ("seriennummer", 3),
    ("appareil", 6),
    ("poste", 5),
    ("ordinateur", 5),
    ("nom", 2),
    ("série", 3),
    ("dispositivo", 6),
    ("equipo", 6),
    ("ordenador", 5),
    ("nombre", 2),
    ("apparecchio", 5),
    ("matricola", 4),
    ("nome", 2),
    ("equipamento", 6),
    ("computador", 5),
    ("apparaat", 6),
    ("toestel", 5),
    ("naam", 2),
    ("enhet", 6),
    ("enhed", 6),
    ("maskin", 5),
    ("urządzenie", 6),
    ("komputer", 5),
];

/// Words for what names a person, in a list of people.
pub(super) const PERSON: [Scored; 14] = [
    ("id", 5),
    ("no", 5),
    ("number", 4),
    ("username", 5),
    ("login", 5),
    ("employee", 4),
    ("user", 3),
    ("mail", 1),
    ("personalnummer", 6),
    ("kennung", 5),
    ("matricule", 5),
    ("matricola", 5),
    ("nummer", 4),
    ("número", 4),
];

/// Words for the moment at which state was collected.
pub(super) const COLLECTED: [Scored; 38] = [
    ("collected", 9),
    ("erhoben", 9),
    ("erfasst", 9),
    ("collecté", 9),
    ("relevé", 9),
    ("recogido", 9),
    ("rilevato", 9),
    ("verzameld", 9),
    ("exported", 8),
    ("export", 8),
    ("exportiert", 8),
    ("reported", 7),
    ("gemeldet", 7),
    ("scanned", 6),
    ("scan", 6),
    ("inventoried", 6),
    ("seen", 5),
    ("gesehen", 5),
    ("gesichtet", 5),
    ("vu", 5),
    ("vue", 5),
    ("visto", 5),
    ("vista", 5),
    ("gezien", 5),
    ("sett", 5),
    ("kontakt", 5),
    ("contact", 5),
    ("contacto", 5),
    ("connexion", 5),
    ("conexión", 5),
    ("connessione", 5),
    ("checkin", 5),
    ("sync", 4),
    ("updated", 3),
    ("aktualisiert", 3),
    ("zeitpunkt", 3),
    ("timestamp", 3),
    ("stand", 2),
];

/// Words for a day or a time in general.
pub(super) const WHEN: [&str; 34] = [
    "time",
    "date",
    "when",
    "at",
    "seen",
    "collected",
    "exported",
    "updated",
    "modified",
    "timestamp",
    "checkin",
    "sync",
    "synced",
    "scan",
    "scanned",
    "reported",
    "zeit",
    "datum",
    "uhrzeit",
    "zeitpunkt",
    "heure",
    "jour",
    "hora",
    "fecha",
    "ora",
    "data",
    "tijd",
    "tid",
    "dato",
    "dag",
    "day",
    "zuletzt",
    "letzter",
    "czas",
];

/// Words for whoever uses a device.
pub(super) const HOLDER: [&str; 20] = [
    "user",
    "username",
    "person",
    "holder",
    "assigned",
    "issued",
    "benutzer",
    "nutzer",
    "anwender",
    "besitzer",
    "utilisateur",
    "usuario",
    "utente",
    "usuário",
    "gebruiker",
    "bruker",
    "bruger",
    "användare",
    "użytkownik",
    "employee",
];

/// Words for programs.
pub(super) const PROGRAM: [&str; 16] = [
    "software",
    "program",
    "programm",
    "programme",
    "application",
    "app",
    "package",
    "product",
    "anwendung",
    "paket",
    "logiciel",
    "aplicación",
    "programa",
    "applicazione",
    "programma",
    "toepassing",
];

/// Words for a setting of which the value stands in another column, and for that value.
pub(super) const PROPERTY: [&str; 10] = [
    "property",
    "attribute",
    "setting",
    "key",
    "eigenschaft",
    "merkmal",
    "propriété",
    "propiedad",
    "proprietà",
    "eigenschap",
];
pub(super) const VALUE: [&str; 7] = ["value", "wert", "valeur", "valor", "valore", "waarde", "verdi"];

/// Words for numbers that are names: nobody reckons with them.
pub(super) const NUMBER_NAMES: [&str; 28] = [
    "serial",
    "imei",
    "imsi",
    "iccid",
    "phone",
    "tel",
    "telephone",
    "mobile",
    "msisdn",
    "asset",
    "inventory",
    "barcode",
    "zip",
    "postcode",
    "nr",
    "no",
    "number",
    "id",
    "telefon",
    "seriennummer",
    "inventarnummer",
    "nummer",
    "téléphone",
    "numéro",
    "teléfono",
    "número",
    "telefono",
    "room",
];

/// Pairs of words for yes and no, in small letters.
pub(super) const YES_NO: [(&str, &str); 41] = [
    ("yes", "no"),
    ("y", "n"),
    ("true", "false"),
    ("on", "off"),
    ("enabled", "disabled"),
    ("active", "inactive"),
    ("ja", "nein"),
    ("ja", "nee"),
    ("ja", "nej"),
    ("ja", "nei"),
    ("oui", "non"),
    ("si", "no"),
    ("sí", "no"),
    ("sì", "no"),
    ("sim", "não"),
    ("tak", "nie"),
    ("ano", "ne"),
    ("áno", "nie"),
    ("igen", "nem"),
    ("da", "nu"),
    ("da", "ne"),
    ("kyllä", "ei"),
    ("jah", "ei"),
    ("ναι", "όχι"),
    ("да", "нет"),
    ("да", "не"),
    ("так", "ні"),
    ("evet", "hayır"),
    ("jā", "nē"),
    ("taip", "ne"),
    ("wahr", "falsch"),
    ("vrai", "faux"),
    ("verdadero", "falso"),
    ("vero", "falso"),
    ("waar", "onwaar"),
    ("aktiv", "inaktiv"),
    ("aktiviert", "deaktiviert"),
    ("activé", "désactivé"),
    ("verschlüsselt", "unverschlüsselt"),
    ("encrypted", "not encrypted"),
    ("passed", "failed"),
];

/// Words that say that nothing was collected, in small letters.
pub(super) const MISSING: [&str; 26] = [
    "n/a",
    "na",
    "n.a.",
    "-",
    "--",
    "?",
    "k. a.",
    "k.a.",
    "keine angabe",
    "unknown",
    "unbekannt",
    "inconnu",
    "desconocido",
    "sconosciuto",
    "desconhecido",
    "onbekend",
    "ukjent",
    "ukendt",
    "okänd",
    "none",
    "null",
    "nil",
    "not available",
    "nicht verfügbar",
    "#n/a",
    "nan",
];

/// Words that say in other languages what the words for secrets say in English.
pub(super) const SECRETS: [&str; 22] = [
    "kennwort",
    "passwort",
    "geheim",
    "geheimnis",
    "schlüssel",
    "wiederherstellungsschlüssel",
    "zugangscode",
    "entsperrcode",
    "mdp",
    "passe",
    "secret",
    "contraseña",
    "clave",
    "senha",
    "parola",
    "chiave",
    "wachtwoord",
    "sleutel",
    "hasło",
    "lösenord",
    "passord",
    "adgangskode",
];

/// Words of headings with those that facts have for them.
pub(super) const SAME: [(&str, &str); 44] = [
    ("ver", "version"),
    ("vers", "version"),
    ("versie", "version"),
    ("versión", "version"),
    ("versione", "version"),
    ("versão", "version"),
    ("wersja", "version"),
    ("operating", "os"),
    ("betriebssystem", "os"),
    ("besturingssysteem", "os"),
    ("encryption", "encrypted"),
    ("verschlüsselt", "encrypted"),
    ("verschlüsselung", "encrypted"),
    ("chiffré", "encrypted"),
    ("cifrado", "encrypted"),
    ("cifrato", "encrypted"),
    ("criptografado", "encrypted"),
    ("versleuteld", "encrypted"),
    ("kryptert", "encrypted"),
    ("krypterad", "encrypted"),
    ("szyfrowany", "encrypted"),
    ("freespace", "free"),
    ("space", "free"),
    ("frei", "free"),
    ("freier", "free"),
    ("libre", "free"),
    ("libero", "free"),
    ("livre", "free"),
    ("vrij", "free"),
    ("akku", "battery"),
    ("batterie", "battery"),
    ("batería", "battery"),
    ("bateria", "battery"),
    ("modell", "model"),
    ("modèle", "model"),
    ("modelo", "model"),
    ("modello", "model"),
    ("plattform", "platform"),
    ("plateforme", "platform"),
    ("plataforma", "platform"),
    ("piattaforma", "platform"),
    ("standort", "site"),
    ("owner", "ownership"),
    ("mins", "minutes"),
];

/// Units as headings write them, with how they are written here.
pub(super) const UNITS: [(&str, &str); 44] = [
    ("B", "B"),
    ("bytes", "B"),
    ("octets", "B"),
    ("kB", "kB"),
    ("KB", "kB"),
    ("Ko", "kB"),
    ("MB", "MB"),
    ("Mo", "MB"),
    ("GB", "GB"),
    ("Go", "GB"),
    ("TB", "TB"),
    ("To", "TB"),
    ("KiB", "KiB"),
    ("MiB", "MiB"),
    ("GiB", "GiB"),
    ("TiB", "TiB"),
    ("ms", "ms"),
    ("s", "s"),
    ("sec", "s"),
    ("seconds", "s"),
    ("Sek", "s"),
    ("min", "min"),
    ("minutes", "min"),
    ("Min", "min"),
    ("Minuten", "min"),
    ("minutos", "min"),
    ("minuti", "min"),
    ("h", "h"),
    ("hours", "h"),
    ("Std", "h"),
    ("Stunden", "h"),
    ("heures", "h"),
    ("horas", "h"),
    ("ore", "h"),
    ("d", "d"),
    ("days", "d"),
    ("Tage", "d"),
    ("jours", "d"),
    ("días", "d"),
    ("giorni", "d"),
    ("dagen", "d"),
    ("%", "%"),
    ("percent", "%"),
    ("Prozent", "%"),
];

/// Units that are words of other meanings outside brackets.
pub(super) const ONLY_IN_BRACKETS: [&str; 4] = ["To", "Go", "Mo", "ore"];

/// Returns the words of a heading in small letters: `osVersion (GB)` gives os, version, gb.
pub(super) fn tokens(name: &str) -> Vec<String> {
    let mut all: Vec<String> = Vec::new();
    let mut lower_before = false;
    for c in name.chars() {
        if c.is_alphanumeric() {
            if all.is_empty() || (c.is_uppercase() && lower_before) {
                all.push(String::new());
            }
            if let Some(last) = all.last_mut() {
                last.extend(c.to_lowercase());
            }
            lower_before = c.is_lowercase() || c.is_numeric();
        } else {
            if all.last().is_some_and(|last| !last.is_empty()) {
                all.push(String::new());
            }
            lower_before = false;
        }
    }
    all.retain(|token| !token.is_empty());
    all
}

/// Returns whether a heading has one of some words.
pub(super) fn has_word(name: &str, words: &[&str]) -> bool {
    tokens(name).iter().any(|token| words.contains(&token.as_str()))
}

/// Returns how much the words of a heading say together.
pub(super) fn score(name: &str, words: &[Scored]) -> u32 {
    let known = |token: &String| words.iter().find(|(word, _)| word == token).map(|(_, score)| *score);
    tokens(name).iter().filter_map(known).sum()
}

/// The unit in which a name says that its numbers are: in brackets, or as its last word.
pub(super) fn unit_in(name: &str) -> Option<&'static str> {
    let bracketed = name.rfind(['(', '[']).and_then(|at| name[at + 1..].trim_end().strip_suffix([')', ']']));
    let last = name.trim_end_matches([')', ']', '.']).rsplit([' ', '_', '.', '(', '[', '-']).next();
    // A single letter is a unit in brackets alone.
    let is = |text: &str, brackets: bool| {
        let text = text.trim().trim_end_matches('.');
        let fits = |word: &str| word == text && (brackets || word.len() > 1 && !ONLY_IN_BRACKETS.contains(&word));
        UNITS.iter().find(|(word, _)| fits(word)).map(|(_, unit)| *unit)
    };
    bracketed.and_then(|text| is(text, true)).or_else(|| last.and_then(|text| is(text, false)))
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn units_stand_at_the_end_of_names() {
        for (name, unit) in [
            ("Free (GB)", Some("GB")),
            ("free_bytes", Some("B")),
            ("Lock after (min)", Some("min")),
            ("idle minutes", Some("min")),
            ("Battery [%]", Some("%")),
            ("Class B", None),
            ("Uptime (d)", Some("d")),
            ("Platform", None),
            ("Espace libre (Go)", Some("GB")),
            ("Ready to", None),
            ("Laufzeit (Std.)", Some("h")),
        ] {
            assert_eq!(unit_in(name), unit, "{name}");
        }
    }
}
