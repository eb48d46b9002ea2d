//! The letter to a person: what is theirs to put right, in plain words.

use fencepost_core::Standing;
use fencepost_engine::{Letter, LetterDevice};
use maud::{Markup, html};

use crate::ReportStyle;
use crate::page::{Page, safe};

/// Writes the letter as a page, as of a moment.
pub fn letter_page(letter: &Letter, at: jiff::Timestamp, style: &ReportStyle) -> String {
    let name = letter.name.as_deref().unwrap_or(&letter.person);
    let dates = &style.dates;
    Page {
        style,
        title: format!("{}: to {name}", style.name),
        scope: dates.day(dates.date(at)),
        lead: lead(letter, name),
        sections: Vec::new(),
        foot: html! {
            @if let Some(lead) = &letter.lead { p { "Your lead: " (safe(lead)) "." } }
            p { "As of " (dates.moment(at)) " (" (safe(&dates.zone_name())) ")." }
        },
    }
    .render()
}

fn lead(letter: &Letter, name: &str) -> Markup {
    let wrong: Vec<&LetterDevice> = letter.devices.iter().filter(|device| device.message.is_some()).collect();
    html! {
        div.letter {
            h1 { "To " (safe(name)) }
            @if letter.devices.is_empty() { p.lead { "No device is known that you hold." } }
            @else if wrong.is_empty() { p.lead { "Everything that you hold is in order. There is nothing to do." } }
            @for device in &letter.devices {
                section aria-label=(safe(&device.device)) {
                    h2 { (safe(&device.device)) }
                    p.soft {
                        (standing_in_plain_words(device.standing)) "."
                        @if !device.shared_with.is_empty() { " You hold it together with " (safe(&device.shared_with.join(", "))) "." }
                    }
                    @if let Some(message) = &device.message {
                        h3 { (safe(&message.subject)) }
                        pre lang=[&letter.language] { (safe_lines(&message.text)) }
                    }
                }
            }
        }
    }
}

/// Says how a device stands to somebody who never heard of standings.
fn standing_in_plain_words(standing: Option<Standing>) -> &'static str {
    match standing {
        Some(Standing::Compliant) => "It is in order",
        Some(Standing::OnNotice) => "Something is to be put right, and there is time left",
        Some(Standing::Unproven) => "It has not shown lately that it is in order",
        Some(Standing::NonCompliant) => "Something is not in order, and the time for it is over",
        None => "It was not looked at yet",
    }
}

/// Returns a text of several lines in which no character hides anything.
fn safe_lines(text: &str) -> String {
    text.trim().lines().map(safe).collect::<Vec<_>>().join("\n")
}
