//! The fence, drawn: a post for each device, by its standing, on rails. A shape stands for each standing, so that no colour has to be
//! told apart, and words stand beside every line.

use fencepost_core::Standing;
use fencepost_engine::{FenceLine, Post};
use maud::{Markup, html};

use crate::page::{count, grouped, safe};

/// More posts than this are not drawn; then each stands for several devices.
const MOST_POSTS: usize = 3_000;
/// How far posts stand apart, and how high they are.
const STEP: usize = 12;
const HEIGHT: usize = 34;
/// So many posts stand in a row.
const IN_A_ROW: usize = 60;

/// The five kinds of posts, best first.
const KINDS: [(Post, &str); 5] = [
    (Post { standing: Standing::Compliant, by_waiver: false }, "in order"),
    (Post { standing: Standing::Compliant, by_waiver: true }, "in order by waiver"),
    (Post { standing: Standing::OnNotice, by_waiver: false }, "on notice"),
    (Post { standing: Standing::Unproven, by_waiver: false }, "unproven"),
    (Post { standing: Standing::NonCompliant, by_waiver: false }, "non-compliant"),
];

/// Draws a post that stands at `x`, from `top` on.
fn post(kind: Post, x: usize, top: usize) -> Markup {
    let (middle, low) = (x + STEP / 2, top + HEIGHT - 3);
    let high = top + 3;
    let path = match (kind.standing, kind.by_waiver) {
        (Standing::Compliant, false) => format!("M{middle} {high}V{low}"),
        // Held up by a crossbar.
        (Standing::Compliant, true) => format!("M{middle} {high}V{low}M{} {}h8", middle - 4, top + HEIGHT / 2),
        // It leans.
        (Standing::OnNotice, _) => format!("M{} {high}L{} {low}", middle + 4, middle - 4),
        // It is not seen whole.
        (Standing::Unproven, _) => format!("M{middle} {high}v5m0 6v5m0 6v6"),
        // It is broken.
        (Standing::NonCompliant, _) => {
            format!("M{} {}l8 18m0 -18l-8 18", middle - 4, top + 8)
        }
    };
    let class = if kind.standing == Standing::Compliant { "post ok" } else { "post" };
    html! { path class=(class) d=(path) {} }
}

/// Says how the devices of a line stand.
pub fn in_words(posts: &[Post]) -> String {
    let counts = KINDS.map(|(kind, word)| (posts.iter().filter(|post| **post == kind).count() as u64, word));
    let told: Vec<String> = counts
        .iter()
        .filter(|(number, _)| *number > 0)
        .map(|(number, word)| format!("{} {word}", grouped(*number)))
        .collect();
    format!("{}: {}", count(posts.len() as u64, "device", "devices"), told.join(", "))
}

/// Draws the fence, with what its marks mean.
pub fn fence(lines: &[FenceLine]) -> Markup {
    let all: usize = lines.iter().map(|line| line.posts.len()).sum();
    let each = all.div_ceil(MOST_POSTS).max(1);
    html! {
        figure aria-label="The fence" {
            div.fence { @for line in lines { (self::line(line, each)) } }
            figcaption {
                "A post for " @if each == 1 { "each device" } @else { "every " (grouped(each as u64)) " devices that stand alike" }
                ", by where it belongs."
                ul.legend {
                    @for (kind, word) in KINDS {
                        li { svg width=(STEP + 4) height=(HEIGHT) viewBox={ "-2 0 " (STEP + 4) " " (HEIGHT) } aria-hidden="true" { (post(kind, 0, 0)) } (word) }
                    }
                }
            }
        }
    }
}

/// Draws a line: posts by standing, best first.
fn line(line: &FenceLine, each: usize) -> Markup {
    let mut posts = Vec::new();
    for (kind, _) in KINDS {
        let number = line.posts.iter().filter(|post| **post == kind).count();
        posts.extend(std::iter::repeat_n(kind, number.div_ceil(each)));
    }
    let rows = posts.len().div_ceil(IN_A_ROW).max(1);
    let (width, height) = (posts.len().clamp(1, IN_A_ROW) * STEP + 8, rows * (HEIGHT + 6));
    html! {
        h3 { (safe(&line.label)) }
        svg width=(width) height=(height) viewBox={ "0 0 " (width) " " (height) } aria-hidden="true" {
            @for row in 0..rows {
                @let (top, right) = (row * (HEIGHT + 6), posts.len().saturating_sub(row * IN_A_ROW).min(IN_A_ROW) * STEP + 8);
                path.rail d={ "M0 " (top + 11) "H" (right) "M0 " (top + 23) "H" (right) } {}
            }
            @for (at, kind) in posts.iter().enumerate() {
                (post(*kind, at % IN_A_ROW * STEP + 4, at / IN_A_ROW * (HEIGHT + 6)))
            }
        }
        p.soft { (in_words(&line.posts)) }
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn words_say_what_is_drawn() {
        let post = |standing, by_waiver| Post { standing, by_waiver };
        let posts = [
            post(Standing::Compliant, false),
            post(Standing::Compliant, true),
            post(Standing::NonCompliant, false),
            post(Standing::NonCompliant, false),
        ];
        assert_eq!(in_words(&posts), "4 devices: 1 in order, 1 in order by waiver, 2 non-compliant");
    }

    #[test]
    fn a_large_fleet_is_drawn_with_a_bounded_number_of_posts() {
        let posts = vec![KINDS[0].0; 99_999].into_iter().chain([KINDS[4].0]).collect();
        let drawn = fence(&[FenceLine { label: "all".into(), posts }]).into_string();
        assert!(drawn.matches("<path class=\"post").count() < MOST_POSTS + 10);
        // A single one is drawn all the same.
        assert!(drawn.contains("100\u{202f}000 devices: 99\u{202f}999 in order, 1 non-compliant"));
    }
}
