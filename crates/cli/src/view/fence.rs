//! The fence: one post for each device, in groups. Shape carries the meaning, colour repeats it.

use std::collections::BTreeSet;

use fencepost_core::Standing;
use fencepost_engine::{FenceLine, Post};
use unicode_width::UnicodeWidthStr;

use super::style::Styles;
use super::text::harmless;

/// The post of a standing.
pub fn post(standing: Standing, unicode: bool) -> char {
    match (standing, unicode) {
        (Standing::Compliant, true) => '┃',
        (Standing::OnNotice, true) => '╱',
        (Standing::Unproven, true) => '┆',
        (Standing::NonCompliant, true) => '╳',
        (Standing::Compliant, false) => '|',
        (Standing::OnNotice, false) => '/',
        (Standing::Unproven, false) => ':',
        (Standing::NonCompliant, false) => 'x',
    }
}

/// The post of a device, which shows also where a waiver keeps it compliant.
pub fn post_of(one: Post, unicode: bool) -> char {
    match (one.by_waiver, unicode) {
        (true, true) => '╿',
        (true, false) => 'i',
        (false, _) => post(one.standing, unicode),
    }
}

/// What a standing is called to a person.
pub fn spaced(standing: Standing) -> &'static str {
    match standing {
        Standing::Compliant => "compliant",
        Standing::OnNotice => "on notice",
        Standing::Unproven => "unproven",
        Standing::NonCompliant => "non-compliant",
    }
}

/// Posts of one line, and how many devices each stands for.
struct Drawn {
    posts: Vec<Post>,
    scale: usize,
}

/// Draws no more than `most` posts: to scale where there are more devices, so that a single bad one still shows.
fn draw(all: &[Post], most: usize) -> Drawn {
    if all.len() <= most {
        return Drawn { posts: all.to_vec(), scale: 1 };
    }
    // Every kind of post that occurs takes at least one, so a little room is kept for rounding up.
    let scale = all.len().div_ceil(most.saturating_sub(5).max(1));
    let mut posts = Vec::new();
    for kind in all.iter().copied().collect::<BTreeSet<Post>>() {
        let count = all.iter().filter(|one| **one == kind).count();
        posts.extend(std::iter::repeat_n(kind, count.div_ceil(scale)));
    }
    Drawn { posts, scale }
}

/// A line of posts with what is said beside it.
pub struct PostLine<'l> {
    pub label: &'l str,
    pub posts: &'l [Post],
    /// What is said beside the posts, and the same in short where it is narrow.
    pub says: [String; 2],
    /// What several posts stand for.
    pub of: &'static str,
}

/// Renders the lines of the fence, each with its numbers, within `width` columns.
pub fn render(lines: &[FenceLine], width: usize, unicode: bool, styles: &Styles) -> String {
    let lines: Vec<PostLine<'_>> = lines
        .iter()
        .map(|line| PostLine {
            label: &line.label,
            posts: &line.posts,
            says: [false, true].map(|short| numbers(line, styles, short)),
            of: "devices",
        })
        .collect();
    render_lines(&lines, width, unicode, styles)
}

/// Renders lines of posts, each with what is said beside it, within `width` columns.
pub fn render_lines(lines: &[PostLine<'_>], width: usize, unicode: bool, styles: &Styles) -> String {
    const MOST_ROWS: usize = 3;
    let label_width = lines.iter().map(|line| harmless(line.label).width()).max().unwrap_or(0).min(32);
    let longest = lines.iter().map(|line| line.posts.len()).max().unwrap_or(0).max(1);
    let room_beside = |short: bool| {
        let widest = lines.iter().map(|line| shown_width(&line.says[usize::from(short)])).max().unwrap_or(0);
        width.saturating_sub(label_width + widest + 12).clamp(10, 120).min(longest)
    };
    // Where it is narrow the posts come first: how many are compliant can be seen from the rest.
    let short = room_beside(false) < longest.min(40);
    // Posts and numbers share a line where they fit; else the posts wrap below each other.
    let room = room_beside(short);
    let mut out = String::new();
    for line in lines {
        let counted = &line.says[usize::from(short)];
        let drawn = draw(line.posts, room * MOST_ROWS);
        let label = harmless(line.label);
        let pad = " ".repeat(label_width.saturating_sub(label.width()));
        for (at, row) in drawn.posts.chunks(room).enumerate() {
            let posts = paint(row, unicode, styles);
            if at == 0 {
                let gap = " ".repeat(room - row.len());
                let strong = styles.strong;
                out.push_str(&format!(
                    "{strong}{label}{strong:#}{pad}  {posts}{gap}  {:>4}   {counted}",
                    line.posts.len()
                ));
                if drawn.scale > 1 {
                    out.push_str(&format!("  (one post = {} {})", drawn.scale, line.of));
                }
            } else {
                out.push_str(&format!("{}  {posts}", " ".repeat(label_width)));
            }
            out.push('\n');
        }
    }
    out
}

/// Returns how wide a text is on a terminal, its colours left out.
fn shown_width(text: &str) -> usize {
    anstream::adapter::strip_str(text).to_string().width()
}

fn paint(posts: &[Post], unicode: bool, styles: &Styles) -> String {
    posts
        .chunk_by(|a, b| a == b)
        .map(|run| {
            let style = styles.standing(run[0].standing);
            let text: String = run.iter().map(|one| post_of(*one, unicode)).collect();
            format!("{style}{text}{style:#}")
        })
        .collect()
}

/// `9 compliant  1 on notice`, or `all compliant`.
fn numbers(line: &FenceLine, styles: &Styles, short: bool) -> String {
    let count = |standing: Standing| line.posts.iter().filter(|one| one.standing == standing).count();
    let by_waiver = line.posts.iter().filter(|one| one.by_waiver).count();
    if count(Standing::Compliant) == line.posts.len() {
        return match by_waiver {
            0 => "all compliant".to_owned(),
            some => format!("all compliant, {some} of them by waiver"),
        };
    }
    let said = |standing: Standing| match (standing, short) {
        (Standing::Compliant, _) if count(standing) == 0 => None,
        (Standing::Compliant, true) => (by_waiver > 0).then(|| format!("{by_waiver} by waiver")),
        (Standing::Compliant, false) if by_waiver > 0 => {
            Some(format!("{} compliant ({by_waiver} by waiver)", count(standing)))
        }
        (Standing::Compliant, false) => Some(format!("{} compliant", count(standing))),
        (_, _) => (count(standing) > 0).then(|| {
            let style = styles.standing(standing);
            format!("{style}{} {}{style:#}", count(standing), spaced(standing))
        }),
    };
    Standing::ALL.into_iter().filter_map(said).collect::<Vec<_>>().join("  ")
}

#[cfg(test)]
mod tests {
    use super::*;

    fn line(posts: &[(Standing, usize)]) -> FenceLine {
        let posts = posts
            .iter()
            .flat_map(|(standing, count)| std::iter::repeat_n(Post { standing: *standing, by_waiver: false }, *count));
        let posts = posts.collect();
        FenceLine { label: "Fulmar".into(), posts }
    }

    #[test]
    fn a_site_reads_as_a_line() {
        let mixed = line(&[(Standing::Compliant, 2), (Standing::OnNotice, 1), (Standing::NonCompliant, 1)]);
        let text = render(&[mixed, line(&[(Standing::Compliant, 3)])], 100, true, &Styles::plain());
        assert_eq!(
            text,
            "Fulmar  ┃┃╱╳     4   2 compliant  1 on notice  1 non-compliant\nFulmar  ┃┃┃      3   all compliant\n"
        );
        let ascii =
            render(&[line(&[(Standing::Unproven, 1), (Standing::NonCompliant, 1)])], 100, false, &Styles::plain());
        assert!(ascii.contains(":x"), "{ascii}");
    }

    #[test]
    fn a_device_that_is_compliant_by_waiver_has_a_post_of_its_own() {
        let mut waived = line(&[(Standing::Compliant, 3)]);
        waived.posts[2].by_waiver = true;
        let mut mixed = line(&[(Standing::Compliant, 2), (Standing::OnNotice, 1)]);
        mixed.posts[1].by_waiver = true;
        let text = render(&[waived.clone(), mixed], 100, true, &Styles::plain());
        assert_eq!(
            text,
            "Fulmar  ┃┃╿     3   all compliant, 1 of them by waiver\nFulmar  ┃╿╱     3   2 compliant (1 by waiver)  1 on notice\n"
        );
        assert!(render(&[waived], 100, false, &Styles::plain()).contains("||i"));
    }

    #[test]
    fn where_it_is_narrow_the_posts_keep_their_line() {
        let mixed = line(&[(Standing::Compliant, 20), (Standing::OnNotice, 1), (Standing::NonCompliant, 1)]);
        let text = render(&[mixed], 70, true, &Styles::plain());
        assert_eq!(text.lines().count(), 1, "{text}");
        assert!(text.contains("22   1 on notice  1 non-compliant"), "{text}");
    }

    #[test]
    fn a_single_bad_device_shows_in_a_large_group() {
        let many = line(&[(Standing::Compliant, 9_999), (Standing::NonCompliant, 1)]);
        let text = render(&[many], 80, true, &Styles::plain());
        assert_eq!(text.matches('╳').count(), 1);
        assert!(text.contains("one post = ") && text.contains("10000"), "{text}");
        assert!(text.lines().count() <= 4);
    }
}
