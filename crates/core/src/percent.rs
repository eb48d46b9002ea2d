//! Shares in per cent, as people are shown them.

/// Returns a share from 0 to 1 as `83 %`: rounded, but what is not all is never shown as all, and what is something never as nothing.
pub fn percent(share: f64) -> String {
    let rounded = (share * 100.0).round();
    let shown = if share < 1.0 { rounded.min(99.0) } else { rounded };
    let shown = if share > 0.0 { shown.max(1.0) } else { shown };
    format!("{shown} %")
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn shares_never_claim_all_or_nothing_wrongly() {
        let told = [0.0, 0.001, 0.5, 0.999, 1.0].map(percent);
        assert_eq!(told, ["0 %", "1 %", "50 %", "99 %", "100 %"]);
    }
}
