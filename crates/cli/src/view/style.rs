//! Colours. They only repeat what shape and words say, and stay apart for colour-blind readers on dark and
//! light ground: blue, orange, grey and a crimson that is darker than the orange.

use anstyle::{Ansi256Color, Color, Style};
use fencepost_core::Standing;

#[derive(Clone, Copy, Debug, Default)]
pub struct Styles {
    pub good: Style,
    pub notice: Style,
    pub unproven: Style,
    pub bad: Style,
    pub faint: Style,
    pub strong: Style,
}

impl Styles {
    pub fn plain() -> Self {
        Self::default()
    }

    pub fn colored() -> Self {
        let color = |number| Style::new().fg_color(Some(Color::Ansi256(Ansi256Color(number))));
        Self {
            good: color(67),
            notice: color(172),
            unproven: color(244),
            bad: color(161).bold(),
            faint: color(244),
            strong: Style::new().bold(),
        }
    }

    pub fn standing(&self, standing: Standing) -> Style {
        match standing {
            Standing::Compliant => self.good,
            Standing::OnNotice => self.notice,
            Standing::Unproven => self.unproven,
            Standing::NonCompliant => self.bad,
        }
    }

    pub fn is_plain(&self) -> bool {
        self.bad == Style::new()
    }
}
