//! The accent colour, made dark or light enough to be read: a contrast of 4.5 to 1 at least, as WCAG 2.2 measures it.

/// Red, green and blue.
pub type Colour = [u8; 3];

/// The accent where the workspace names none.
pub const ACCENT: Colour = [0x0b, 0x5e, 0x8a];
/// What pages are printed on, by day.
pub const PAPER: Colour = [0xfc, 0xfb, 0xf8];
/// The same by night.
pub const NIGHT: Colour = [0x12, 0x16, 0x1b];
/// The least contrast of text.
const LEAST: f64 = 4.5;

/// Returns the relative luminance of a colour, as WCAG 2.2 defines it.
fn luminance(colour: Colour) -> f64 {
    let linear = |part: u8| {
        let part = f64::from(part) / 255.0;
        if part <= 0.040_45 { part / 12.92 } else { ((part + 0.055) / 1.055).powf(2.4) }
    };
    let [red, green, blue] = colour.map(linear);
    0.2126 * red + 0.7152 * green + 0.0722 * blue
}

/// Returns the contrast of two colours, from 1 to 21.
pub fn contrast(one: Colour, other: Colour) -> f64 {
    let (one, other) = (luminance(one), luminance(other));
    (one.max(other) + 0.05) / (one.min(other) + 0.05)
}

/// Returns a colour that can be read on another: the same, or the nearest to it on the way to black or white.
pub fn readable_on(ground: Colour, colour: Colour) -> Colour {
    let end: Colour = if luminance(ground) > 0.18 { [0; 3] } else { [255; 3] };
    let mixed = |part: u16| -> Colour {
        std::array::from_fn(|at| {
            let (from, to) = (u16::from(colour[at]), u16::from(end[at]));
            u8::try_from((from * (100 - part) + to * part) / 100).unwrap_or(end[at])
        })
    };
    (0..=100).map(mixed).find(|mixed| contrast(*mixed, ground) >= LEAST).unwrap_or(end)
}

/// Returns a colour as style sheets write it.
pub fn written([red, green, blue]: Colour) -> String {
    format!("#{red:02x}{green:02x}{blue:02x}")
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn contrast_is_measured_as_the_guidelines_do() {
        assert!((contrast([0; 3], [255; 3]) - 21.0).abs() < 1e-9);
        // Of two greys that the guidelines' explanations name as just enough, and just not.
        assert!(contrast([0x76; 3], [255; 3]) >= 4.5);
        assert!(contrast([0x77; 3], [255; 3]) < 4.5);
    }

    #[test]
    fn every_accent_can_be_read_by_day_and_by_night() {
        let parts = [0u8, 60, 128, 200, 255];
        for red in parts {
            for green in parts {
                for blue in parts {
                    for ground in [PAPER, NIGHT] {
                        let accent = readable_on(ground, [red, green, blue]);
                        assert!(contrast(accent, ground) >= LEAST, "{red} {green} {blue}");
                    }
                }
            }
        }
        // What is readable stays as it is.
        assert_eq!(readable_on(PAPER, ACCENT), ACCENT);
    }
}
