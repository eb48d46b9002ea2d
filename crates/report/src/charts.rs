//! Charts as SVG, small enough to read at a glance; the numbers stand in a table beside each.

use fencepost_engine::{Forecast, ForecastKind, TrendPoint};
use maud::{Markup, html};

use crate::dates::Dates;
use crate::page::{percent, safe};

/// Returns the part of `whole` that lies at a share of it, from 0 to 1.
fn scaled(share: f64, whole: u32) -> u32 {
    (share.clamp(0.0, 1.0) * f64::from(whole)).round() as u32
}

/// Draws the share of devices in order over time.
pub fn trend(points: &[TrendPoint], dates: &Dates) -> Markup {
    const WIDTH: u32 = 720;
    const HEIGHT: u32 = 150;
    const LEFT: u32 = 46;
    let (Some(first), Some(last)) = (points.first(), points.last()) else { return html! {} };
    let begin = first.in_order.at.as_second();
    let span = (last.in_order.at.as_second() - begin).max(1) as f64;
    let lowest = points.iter().filter_map(|point| point.in_order.share()).fold(1.0, f64::min);
    // The scale begins at a round tenth below the lowest.
    let floor = ((lowest * 10.0).floor() / 10.0).min(0.9);
    let place = |point: &TrendPoint| {
        let x = LEFT + scaled((point.in_order.at.as_second() - begin) as f64 / span, WIDTH - LEFT - 10);
        let share = point.in_order.share().unwrap_or(floor);
        (x, 10 + HEIGHT - scaled((share - floor) / (1.0 - floor), HEIGHT))
    };
    let places: Vec<(u32, u32)> = points.iter().map(place).collect();
    let line: String =
        places.iter().enumerate().map(|(at, (x, y))| format!("{}{x} {y}", if at == 0 { "M" } else { "L" })).collect();
    let (from, to) = (places.first().map_or(LEFT, |place| place.0), places.last().map_or(LEFT, |place| place.0));
    let bottom = HEIGHT + 10;
    let said = format!(
        "From {} on {} to {} on {}",
        percent(first.in_order.share()),
        dates.day(dates.date(first.in_order.at)),
        percent(last.in_order.share()),
        dates.day(dates.date(last.in_order.at))
    );
    html! {
        figure {
            svg width=(WIDTH) height=(HEIGHT + 40) viewBox={ "0 0 " (WIDTH) " " (HEIGHT + 40) } role="img" aria-label={ "Share of devices in order. " (said) } {
                @for step in 0..=2u32 {
                    @let y = 10 + HEIGHT * step / 2;
                    path.grid d={ "M" (LEFT) " " (y) "H" (WIDTH) } {}
                    text x=(LEFT - 8) y=(y + 4) text-anchor="end" { (percent(Some(1.0 - (1.0 - floor) * f64::from(step) / 2.0))) }
                }
                path.area d={ (line) "L" (to) " " (bottom) "L" (from) " " (bottom) "Z" } {}
                path.line d=(line) {}
                @for (point, (x, y)) in points.iter().zip(&places) {
                    circle.dot cx=(x) cy=(y) r="3.5" { title { (dates.day(dates.date(point.in_order.at))) ": " (percent(point.in_order.share())) } }
                }
                text x=(from) y=(HEIGHT + 32) { (dates.short_day(dates.date(first.in_order.at), false)) }
                text x=(WIDTH - 4) y=(HEIGHT + 32) text-anchor="end" { (dates.short_day(dates.date(last.in_order.at), false)) }
            }
            figcaption { (said) "." }
        }
    }
}

/// Draws a bar of so much of a whole.
pub fn bar(part: u64, whole: u64, is_dark: bool) -> Markup {
    const WIDTH: u32 = 120;
    let share = if whole == 0 { 0.0 } else { part as f64 / whole as f64 };
    // What is there is seen.
    let length = if part > 0 { scaled(share, WIDTH).max(2) } else { 0 };
    html! {
        svg.spark width=(WIDTH) height="10" viewBox={ "0 0 " (WIDTH) " 10" } aria-hidden="true" {
            rect.track width=(WIDTH) height="10" rx="2" {}
            @if length > 0 { rect class=(if is_dark { "bar dark" } else { "bar" }) width=(length) height="10" rx="2" {} }
        }
    }
}

/// Draws how a number went, as a line without a scale.
pub fn spark(values: &[u64]) -> Markup {
    const WIDTH: u32 = 90;
    const HEIGHT: u32 = 20;
    let most = values.iter().copied().max().unwrap_or(0).max(1) as f64;
    if values.len() < 2 {
        return html! {};
    }
    let last = (values.len() - 1) as f64;
    let place = |(at, value): (usize, &u64)| {
        let x = 3 + scaled(at as f64 / last, WIDTH - 6);
        let y = HEIGHT - 3 - scaled(*value as f64 / most, HEIGHT - 6);
        format!("{}{x} {y}", if at == 0 { "M" } else { "L" })
    };
    let line: String = values.iter().enumerate().map(place).collect();
    html! { svg.spark width=(WIDTH) height=(HEIGHT) viewBox={ "0 0 " (WIDTH) " " (HEIGHT) } aria-hidden="true" { path.line d=(line) {} } }
}

/// Draws the days to come, a field for each with what comes on it.
pub fn strip(forecast: &Forecast, dates: &Dates) -> Markup {
    const WIDTH: usize = 152;
    const HEIGHT: usize = 100;
    const IN_A_ROW: usize = 7;
    const TOLD: [(ForecastKind, &str); 5] = [
        (ForecastKind::Due, "due"),
        (ForecastKind::Losing, "lose"),
        (ForecastKind::Opening, "open"),
        (ForecastKind::Returning, "regain"),
        (ForecastKind::Ending, "end"),
    ];
    let rows = forecast.days.len().div_ceil(IN_A_ROW);
    let (width, height) = (WIDTH * IN_A_ROW + 2, HEIGHT * rows + 2);
    html! {
        svg width=(width) height=(height) viewBox={ "0 0 " (width) " " (height) } aria-hidden="true" {
            @for (at, day) in forecast.days.iter().enumerate() {
                @let (x, y) = (at % IN_A_ROW * WIDTH + 1, at / IN_A_ROW * HEIGHT + 1);
                rect.cell x=(x) y=(y) width=(WIDTH) height=(HEIGHT) {}
                text x=(x + 8) y=(y + 18) class=(if day.counts.is_empty() { "" } else { "strong" }) { (short(dates.weekday(day.date.weekday()))) " " (dates.short_day(day.date, false)) }
                @for (row, (kind, word)) in TOLD.iter().filter(|(kind, _)| day.counts.of(*kind) > 0).take(4).enumerate() {
                    text.strong x=(x + 26) y=(y + 38 + row * 16) text-anchor="end" { (day.counts.of(*kind)) }
                    text x=(x + 32) y=(y + 38 + row * 16) { (word) }
                }
            }
        }
    }
}

/// The first three letters of a word.
fn short(word: &str) -> String {
    safe(&word.chars().take(3).collect::<String>())
}
