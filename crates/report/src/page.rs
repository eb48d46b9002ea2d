//! A page in one file: its head with the policy that lets nothing in, its own style and script, and what stands around the report.

use base64::Engine as _;
use base64::engine::general_purpose::STANDARD;
use fencepost_core::harmless;
use maud::{DOCTYPE, Markup, PreEscaped, html};
use sha2::{Digest as _, Sha256};

use crate::ReportStyle;
use crate::colour::{ACCENT, NIGHT, PAPER, readable_on, written};

const SCRIPT: &str = include_str!("assets/report.js");
const STYLE: &str = include_str!("assets/report.css");

/// A part of a page that can be folded and linked to.
pub struct Section {
    /// Its name in addresses.
    pub id: &'static str,
    pub title: String,
    /// What stands beside the title: mostly how many rows there are.
    pub count: Option<String>,
    pub body: Markup,
}

/// What a page is made of.
pub struct Page<'p> {
    pub style: &'p ReportStyle,
    /// The title in the browser.
    pub title: String,
    /// What the report is of.
    pub scope: String,
    /// What stands before the first section.
    pub lead: Markup,
    pub sections: Vec<Section>,
    /// What stands at the end: as of when, and by what.
    pub foot: Markup,
}

/// Returns the source by which a policy allows a text inside the page.
fn hash_source(text: &str) -> String {
    format!("'sha256-{}'", STANDARD.encode(Sha256::digest(text.as_bytes())))
}

impl Page<'_> {
    /// Writes the page.
    pub fn render(&self) -> String {
        let accent = self.style.accent.unwrap_or(ACCENT);
        let [day, night] = [PAPER, NIGHT].map(|ground| written(readable_on(ground, accent)));
        let style = format!(
            ":root{{--accent:{day}}}@media (prefers-color-scheme:dark){{:root{{--accent:{night}}}}}@media print{{:root{{--accent:{day}}}}}\n{STYLE}"
        );
        let policy = format!(
            "default-src 'none'; base-uri 'none'; form-action 'none'; script-src {}; style-src {}",
            hash_source(SCRIPT),
            hash_source(&style)
        );
        let page = html! {
            (DOCTYPE)
            html lang="en" {
                head {
                    meta charset="utf-8";
                    meta http-equiv="Content-Security-Policy" content=(policy);
                    meta name="viewport" content="width=device-width, initial-scale=1";
                    meta name="referrer" content="no-referrer";
                    meta name="color-scheme" content="light dark";
                    title { (safe(&self.title)) }
                    style { (PreEscaped(&style)) }
                }
                body {
                    a.skip href="#report" { "Skip to the report" }
                    header {
                        div.name {
                            @if let Some(logo) = &self.style.logo { span.logo aria-hidden="true" { (safe(logo)) } }
                            (safe(&self.style.name))
                        }
                        div { (safe(&self.scope)) }
                        @if self.sections.len() > 2 {
                            nav aria-label="Parts of the report" {
                                ul { @for section in &self.sections { li { a href={ "#" (section.id) } { (safe(&section.title)) } } } }
                            }
                        }
                    }
                    main id="report" tabindex="-1" {
                        (self.lead)
                        @for section in &self.sections {
                            section id=(section.id) aria-labelledby={ "title-" (section.id) } {
                                details id={ "fold-" (section.id) } open {
                                    summary {
                                        h2 id={ "title-" (section.id) } { (safe(&section.title)) }
                                        @if let Some(count) = &section.count { span.count { (safe(count)) } }
                                    }
                                    (section.body)
                                }
                            }
                        }
                    }
                    footer { (self.foot) }
                    script { (PreEscaped(SCRIPT)) }
                }
            }
        };
        page.into_string()
    }
}

/// Returns a text in which no character hides, moves or turns round anything.
pub fn safe(text: &str) -> String {
    harmless(text)
}

/// Returns `1 device` or `3 devices`.
pub fn count(number: u64, one: &str, many: &str) -> String {
    format!("{} {}", grouped(number), if number == 1 { one } else { many })
}

/// Returns a number with its thousands apart.
pub fn grouped(number: u64) -> String {
    let digits = number.to_string();
    let mut out = String::with_capacity(digits.len() + digits.len() / 3);
    for (at, digit) in digits.chars().enumerate() {
        if at > 0 && (digits.len() - at).is_multiple_of(3) {
            out.push('\u{202f}');
        }
        out.push(digit);
    }
    out
}

/// Returns a share in per cent; a dash where there is no whole.
pub fn percent(share: Option<f64>) -> String {
    share.map_or_else(|| "-".to_owned(), fencepost_core::percent)
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn thousands_are_set_apart() {
        assert_eq!([0, 999, 1_000, 1_234_567].map(grouped), ["0", "999", "1\u{202f}000", "1\u{202f}234\u{202f}567"]);
    }
}
