//! The fence: one post for each device, in groups. Shape carries the meaning, colour repeats it.

use fencepost_core::Standing;
use fencepost_engine::FenceLine;
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
    posts: Vec<Standing>,
    scale: usize,
}

/// Draws no more than `most` posts: to scale where there are more devices, so that a single bad one still shows.
fn draw(standings: &[Standing], most: usize) -> Drawn {
    if standings.len() <= most {
        return Drawn { posts: standings.to_vec(), scale: 1 };
    }
    // Every standing that occurs takes at least one post, so a little room is kept for rounding up.
    let scale = standings.len().div_ceil(most.saturating_sub(4).max(1));
    let mut posts = Vec::new();
    for standing in Standing::ALL {
        let count = standings.iter().filter(|one| **one == standing).count();
        posts.extend(std::iter::repeat_n(standing, count.div_ceil(scale)));
    }
    Drawn { posts, scale }
}

/// Renders the lines of the fence, each with its numbers, within `width` columns.
pub fn render(lines: &[FenceLine], width: usize, unicode: bool, styles: &Styles) -> String {
    const MOST_ROWS: usize = 3;
    let label_width = lines.iter().map(|line| harmless(&line.label).width()).max().unwrap_or(0).min(32);
    let longest = lines.iter().map(|line| line.posts.len()).max().unwrap_or(0).max(1);
    let room_beside = |short: bool| {
        let widest = lines.iter().map(|line| numbers(line, &Styles::plain(), short).width()).max().unwrap_or(0);
        width.saturating_sub(label_width + widest + 12).clamp(10, 120).min(longest)
    };
    // Where it is narrow the posts come first: how many are compliant can be seen from the rest.
    let short = room_beside(false) < longest.min(40);
    let counts: Vec<String> = lines.iter().map(|line| numbers(line, styles, short)).collect();
    // Posts and numbers share a line where they fit; else the posts wrap below each other.
    let room = room_beside(short);
    let mut out = String::new();
    for (line, counted) in lines.iter().zip(counts) {
        let drawn = draw(&line.posts, room * MOST_ROWS);
        let label = harmless(&line.label);
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
                    out.push_str(&format!("  (one post = {} devices)", drawn.scale));
                }
            } else {
                out.push_str(&format!("{}  {posts}", " ".repeat(label_width)));
            }
            out.push('\n');
        }
    }
    out
}

fn paint(posts: &[Standing], unicode: bool, styles: &Styles) -> String {
    posts
        .chunk_by(|a, b| a == b)
        .map(|run| {
            let style = styles.standing(run[0]);
            let text: String = run.iter().map(|standing| post(*standing, unicode)).collect();
            format!("{style}{text}{style:#}")
        })
        .collect()
}

/// `9 compliant  1 on notice`, or `all compliant`.
fn numbers(line: &FenceLine, styles: &Styles, short: bool) -> String {
    let count = |standing: Standing| line.posts.iter().filter(|one| **one == standing).count();
    if count(Standing::Compliant) == line.posts.len() {
        return "all compliant".to_owned();
    }
    Standing::ALL
        .into_iter()
        .filter(|standing| count(*standing) > 0 && !(short && *standing == Standing::Compliant))
        .map(|standing| {
            let style = if standing == Standing::Compliant { anstyle::Style::new() } else { styles.standing(standing) };
            format!("{style}{} {}{style:#}", count(standing), spaced(standing))
        })
        .collect::<Vec<_>>()
        .join("  ")
}

#[cfg(test)]
mod tests {
    use super::*;

    fn line(posts: &[(Standing, usize)]) -> FenceLine {
        let posts = posts.iter().flat_map(|(standing, count)| std::iter::repeat_n(*standing, *count)).collect();
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
