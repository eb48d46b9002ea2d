//! Dates in full, in the language of the workspace and on its clock.

use fencepost_engine::DateLanguage;
use jiff::Timestamp;
use jiff::civil::{Date, Weekday};
use jiff::tz::TimeZone;

/// Writes moments.
#[derive(Clone, Debug)]
pub struct Dates {
    /// The zone of the workspace.
    pub zone: TimeZone,
    /// The language.
    pub language: DateLanguage,
}

impl Dates {
    /// Returns the name of the zone.
    pub fn zone_name(&self) -> String {
        self.zone.iana_name().unwrap_or("UTC").to_owned()
    }

    /// Returns a moment on the clock of the zone, to the minute: `Sunday 14 March 2027, 07:00`.
    pub fn moment(&self, at: Timestamp) -> String {
        format!("{}, {}", self.day(self.date(at)), self.time(at))
    }

    /// Returns the time of a moment on the clock of the zone, `07:00`.
    pub fn time(&self, at: Timestamp) -> String {
        self.zone.to_datetime(at).strftime("%H:%M").to_string()
    }

    /// Returns the day of a moment in the zone.
    pub fn date(&self, at: Timestamp) -> Date {
        self.zone.to_datetime(at).date()
    }

    /// Returns the last day of something that ends at a moment, exclusively: the day before where that is a midnight.
    pub fn last_day(&self, end: Timestamp) -> Date {
        self.date(end.checked_sub(jiff::SignedDuration::from_nanos(1)).unwrap_or(end))
    }

    /// Returns a day in full: `Sunday 14 March 2027`.
    pub fn day(&self, date: Date) -> String {
        format!("{} {}", self.weekday(date.weekday()), self.short_day(date, true))
    }

    /// Returns a day without the day of the week: `14 March 2027`, or without the year.
    pub fn short_day(&self, date: Date, with_year: bool) -> String {
        let month = self.words().months[usize::from(date.month().unsigned_abs() - 1)];
        let (day, year) = (date.day(), date.year());
        let (after_day, before_year) = match self.language {
            DateLanguage::German | DateLanguage::Danish | DateLanguage::Norwegian | DateLanguage::Finnish => (".", " "),
            DateLanguage::Spanish | DateLanguage::Portuguese => (" de", " de "),
            _ => ("", " "),
        };
        match with_year {
            true => format!("{day}{after_day} {month}{before_year}{year}"),
            false => format!("{day}{after_day} {month}"),
        }
    }

    /// Returns the day of the week in full.
    pub fn weekday(&self, day: Weekday) -> &'static str {
        self.words().weekdays[usize::from(day.to_monday_zero_offset().unsigned_abs())]
    }

    fn words(&self) -> &'static Words {
        match self.language {
            DateLanguage::English => &ENGLISH,
            DateLanguage::Danish => &DANISH,
            DateLanguage::Dutch => &DUTCH,
            DateLanguage::Finnish => &FINNISH,
            DateLanguage::French => &FRENCH,
            DateLanguage::German => &GERMAN,
            DateLanguage::Italian => &ITALIAN,
            DateLanguage::Norwegian => &NORWEGIAN,
            DateLanguage::Portuguese => &PORTUGUESE,
            DateLanguage::Spanish => &SPANISH,
            DateLanguage::Swedish => &SWEDISH,
        }
    }
}

/// The names of months, and of days from Monday on, as dates have them.
struct Words {
    months: [&'static str; 12],
    weekdays: [&'static str; 7],
}

static ENGLISH: Words = Words {
    months: [
        "January",
        "February",
        "March",
        "April",
        "May",
        "June",
        "July",
        "August",
        "September",
        "October",
        "November",
        "December",
    ],
    weekdays: ["Monday", "Tuesday", "Wednesday", "Thursday", "Friday", "Saturday", "Sunday"],
};
static DANISH: Words = Words {
    months: [
        "januar",
        "februar",
        "marts",
        "april",
        "maj",
        "juni",
        "juli",
        "august",
        "september",
        "oktober",
        "november",
        "december",
    ],
    weekdays: ["mandag", "tirsdag", "onsdag", "torsdag", "fredag", "lørdag", "søndag"],
};
static DUTCH: Words = Words {
    months: [
        "januari",
        "februari",
        "maart",
        "april",
        "mei",
        "juni",
        "juli",
        "augustus",
        "september",
        "oktober",
        "november",
        "december",
    ],
    weekdays: ["maandag", "dinsdag", "woensdag", "donderdag", "vrijdag", "zaterdag", "zondag"],
};
static FINNISH: Words = Words {
    months: [
        "tammikuuta",
        "helmikuuta",
        "maaliskuuta",
        "huhtikuuta",
        "toukokuuta",
        "kesäkuuta",
        "heinäkuuta",
        "elokuuta",
        "syyskuuta",
        "lokakuuta",
        "marraskuuta",
        "joulukuuta",
    ],
    weekdays: ["maanantai", "tiistai", "keskiviikko", "torstai", "perjantai", "lauantai", "sunnuntai"],
};
static FRENCH: Words = Words {
    months: [
        "janvier",
        "février",
        "mars",
        "avril",
        "mai",
        "juin",
        "juillet",
        "août",
        "septembre",
        "octobre",
        "novembre",
        "décembre",
    ],
    weekdays: ["lundi", "mardi", "mercredi", "jeudi", "vendredi", "samedi", "dimanche"],
};
static GERMAN: Words = Words {
    months: [
        "Januar",
        "Februar",
        "März",
        "April",
        "Mai",
        "Juni",
        "Juli",
        "August",
        "September",
        "Oktober",
        "November",
        "Dezember",
    ],
    weekdays: ["Montag", "Dienstag", "Mittwoch", "Donnerstag", "Freitag", "Samstag", "Sonntag"],
};
static ITALIAN: Words = Words {
    months: [
        "gennaio",
        "febbraio",
        "marzo",
        "aprile",
        "maggio",
        "giugno",
        "luglio",
        "agosto",
        "settembre",
        "ottobre",
        "novembre",
        "dicembre",
    ],
    weekdays: ["lunedì", "martedì", "mercoledì", "giovedì", "venerdì", "sabato", "domenica"],
};
static NORWEGIAN: Words = Words {
    months: [
        "januar",
        "februar",
        "mars",
        "april",
        "mai",
        "juni",
        "juli",
        "august",
        "september",
        "oktober",
        "november",
        "desember",
    ],
    weekdays: ["mandag", "tirsdag", "onsdag", "torsdag", "fredag", "lørdag", "søndag"],
};
static PORTUGUESE: Words = Words {
    months: [
        "janeiro",
        "fevereiro",
        "março",
        "abril",
        "maio",
        "junho",
        "julho",
        "agosto",
        "setembro",
        "outubro",
        "novembro",
        "dezembro",
    ],
    weekdays: ["segunda-feira", "terça-feira", "quarta-feira", "quinta-feira", "sexta-feira", "sábado", "domingo"],
};
static SPANISH: Words = Words {
    months: [
        "enero",
        "febrero",
        "marzo",
        "abril",
        "mayo",
        "junio",
        "julio",
        "agosto",
        "septiembre",
        "octubre",
        "noviembre",
        "diciembre",
    ],
    weekdays: ["lunes", "martes", "miércoles", "jueves", "viernes", "sábado", "domingo"],
};
static SWEDISH: Words = Words {
    months: [
        "januari",
        "februari",
        "mars",
        "april",
        "maj",
        "juni",
        "juli",
        "augusti",
        "september",
        "oktober",
        "november",
        "december",
    ],
    weekdays: ["måndag", "tisdag", "onsdag", "torsdag", "fredag", "lördag", "söndag"],
};

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn dates_are_written_in_full_in_every_language() {
        let at: Timestamp = "2027-03-13T23:30:00Z".parse().unwrap();
        let zone = TimeZone::get("Europe/Oslo").unwrap();
        let written = DateLanguage::ALL.map(|(_, language)| Dates { zone: zone.clone(), language }.moment(at));
        assert_eq!(
            written,
            [
                "Sunday 14 March 2027, 00:30",
                "søndag 14. marts 2027, 00:30",
                "zondag 14 maart 2027, 00:30",
                "sunnuntai 14. maaliskuuta 2027, 00:30",
                "dimanche 14 mars 2027, 00:30",
                "Sonntag 14. März 2027, 00:30",
                "domenica 14 marzo 2027, 00:30",
                "søndag 14. mars 2027, 00:30",
                "domingo 14 de março de 2027, 00:30",
                "domingo 14 de marzo de 2027, 00:30",
                "söndag 14 mars 2027, 00:30",
            ]
        );
    }

    #[test]
    fn what_ends_at_midnight_ends_with_the_day_before() {
        let dates = Dates { zone: TimeZone::get("Europe/Oslo").unwrap(), language: DateLanguage::English };
        let end = |text: &str| dates.last_day(text.parse().unwrap()).to_string();
        assert_eq!(end("2027-03-16T23:00:00Z"), "2027-03-16");
        assert_eq!(end("2027-03-16T23:00:01Z"), "2027-03-17");
    }
}
