//! The tests by which two groups are told apart, and what is usual among numbers.

use libm::erfc;

/// Counts of two outcomes in two groups.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub struct TwoByTwo {
    /// How many of the first group have the outcome, and how many have not.
    pub first: [u64; 2],
    /// The same of the second group.
    pub second: [u64; 2],
}

/// Returns the two-sided p of Fisher's exact test: the share of all tables with the same sums that are no likelier than this one.
pub fn fisher(table: TwoByTwo) -> f64 {
    let [a, b] = table.first.map(|count| count as f64);
    let [c, d] = table.second.map(|count| count as f64);
    // Each table is weighed against the one at hand; from one to the next the weight changes by a ratio.
    let (mut no_likelier, mut all) = (1.0, 1.0);
    let mut add = |weight: f64| {
        all += weight;
        // Tables that are as likely come out a little apart.
        if weight <= 1.0 + 1e-7 {
            no_likelier += weight;
        }
    };
    let (mut weight, mut step) = (1.0, 0.0);
    while b - step > 0.0 && c - step > 0.0 {
        weight *= (b - step) * (c - step) / ((a + step + 1.0) * (d + step + 1.0));
        add(weight);
        step += 1.0;
    }
    (weight, step) = (1.0, 0.0);
    while a - step > 0.0 && d - step > 0.0 {
        weight *= (a - step) * (d - step) / ((b + step + 1.0) * (c + step + 1.0));
        add(weight);
        step += 1.0;
    }
    (no_likelier / all).min(1.0)
}

/// A group of no more than this is small enough for the exact distribution, where no two numbers are equal.
const SMALL_GROUP: usize = 8;

/// Returns the two-sided p of the Mann-Whitney test: exact for a small group without ties, else by the normal distribution, corrected
/// for ties and continuity. None where a group is empty.
pub fn mann_whitney(first: &[f64], second: &[f64]) -> Option<f64> {
    if first.is_empty() || second.is_empty() {
        return None;
    }
    let mut all: Vec<(f64, bool)> =
        first.iter().map(|number| (*number, true)).chain(second.iter().map(|number| (*number, false))).collect();
    all.sort_by(|a, b| a.0.total_cmp(&b.0));
    // Equal numbers share the mean of their ranks.
    let (mut rank_sum, mut ties, mut before) = (0.0, 0.0, 0.0);
    for equal in all.chunk_by(|a, b| a.0 == b.0) {
        let count = equal.len() as f64;
        let of_first = equal.iter().filter(|(_, is_first)| *is_first).count() as f64;
        rank_sum += of_first * (before + (count + 1.0) / 2.0);
        ties += count.powi(3) - count;
        before += count;
    }
    let (n, m) = (first.len() as f64, second.len() as f64);
    let wins = rank_sum - n * (n + 1.0) / 2.0;
    let fewer = wins.min(n * m - wins);
    if ties == 0.0 && first.len().min(second.len()) <= SMALL_GROUP {
        return Some((2.0 * no_more_wins(first.len(), second.len(), fewer as usize)).min(1.0));
    }
    let total = n + m;
    let variance = n * m / 12.0 * (total + 1.0 - ties / (total * (total - 1.0)));
    if variance <= 0.0 {
        return Some(1.0);
    }
    let z = (n * m / 2.0 - fewer - 0.5) / variance.sqrt();
    // Twice the upper tail of the normal distribution.
    Some(erfc(z / std::f64::consts::SQRT_2).clamp(0.0, 1.0))
}

/// Returns how likely it is that no more than so many pairs of two groups are won by one of them: the counts are the coefficients of
/// a Gaussian binomial, of which the smaller group gives the number of factors.
fn no_more_wins(n: usize, m: usize, wins: usize) -> f64 {
    let (small, large) = (n.min(m), n.max(m));
    // Divided first: all are sums then, and what is subtracted afterwards is small beside them.
    let mut ways = vec![0.0; wins + 1];
    ways[0] = 1.0;
    for part in 1..=small {
        for at in part..=wins {
            ways[at] += ways[at - part];
        }
    }
    for part in 1..=small {
        for at in (large + part..=wins).rev() {
            ways[at] -= ways[at - large - part];
        }
    }
    let all: f64 = (1..=small).map(|part| (large + part) as f64 / part as f64).product();
    ways.iter().sum::<f64>() / all
}

/// Returns the q of each p: the least share of false discoveries among those found, at which it is found (Benjamini and Hochberg).
pub fn false_discovery_rates(ps: &[f64]) -> Vec<f64> {
    let mut order: Vec<usize> = (0..ps.len()).collect();
    order.sort_by(|a, b| ps[*a].total_cmp(&ps[*b]));
    let (mut qs, mut least) = (vec![1.0; ps.len()], 1.0_f64);
    for (rank, at) in order.into_iter().enumerate().rev() {
        least = least.min(ps[at] * ps.len() as f64 / (rank + 1) as f64);
        qs[at] = least;
    }
    qs
}

#[cfg(test)]
mod tests {
    use super::*;

    fn close(found: f64, expected: f64, within: f64) {
        assert!((found - expected).abs() <= within, "{found} is not {expected}");
    }

    /// R. A. Fisher, The Design of Experiments (1935), chapter II: the lady who tastes tea; 1 of 70 and 17 of 70 in each tail.
    #[test]
    fn fisher_agrees_with_the_tasting_of_tea() {
        close(fisher(TwoByTwo { first: [4, 0], second: [0, 4] }), 2.0 / 70.0, 1e-12);
        close(fisher(TwoByTwo { first: [3, 1], second: [1, 3] }), 34.0 / 70.0, 1e-12);
        close(fisher(TwoByTwo { first: [2, 2], second: [2, 2] }), 1.0, 1e-12);
    }

    /// R. A. Fisher, The Logic of Inductive Inference (1935): convictions of like-sex twins of criminals; one-sided 619 of 1330665.
    #[test]
    fn fisher_agrees_with_the_twins_of_criminals() {
        close(fisher(TwoByTwo { first: [10, 3], second: [2, 15] }), 0.000_536_7, 1e-6);
    }

    #[test]
    fn fisher_is_the_same_whichever_way_the_table_is_turned() {
        for (a, b, c, d) in [(3, 9, 12, 4), (0, 5, 7, 1), (100, 3, 40, 60), (0, 0, 4, 5)] {
            let p = fisher(TwoByTwo { first: [a, b], second: [c, d] });
            for turned in [[[b, a], [d, c]], [[c, d], [a, b]], [[a, c], [b, d]]] {
                close(fisher(TwoByTwo { first: turned[0], second: turned[1] }), p, 1e-12);
            }
        }
        assert_eq!(fisher(TwoByTwo { first: [50_000, 0], second: [0, 50_000] }), 0.0);
    }

    /// H. B. Mann and D. R. Whitney, Annals of Mathematical Statistics 18 (1947), table I, which cuts after the third digit: how
    /// likely U is no more than so much.
    #[test]
    fn the_distribution_of_u_agrees_with_the_table_of_mann_and_whitney() {
        let table: [(usize, usize, &[f64]); 6] = [
            (3, 1, &[0.250, 0.500, 0.750]),
            (3, 2, &[0.100, 0.200, 0.400, 0.600]),
            (3, 3, &[0.050, 0.100, 0.200, 0.350, 0.500, 0.650]),
            (4, 2, &[0.067, 0.133, 0.267, 0.400, 0.600]),
            (4, 3, &[0.028, 0.057, 0.114, 0.200, 0.314, 0.429, 0.571]),
            (4, 4, &[0.014, 0.029, 0.057, 0.100, 0.171, 0.243, 0.343, 0.443, 0.557]),
        ];
        for (n, m, known) in table {
            for (wins, expected) in known.iter().enumerate() {
                close(no_more_wins(n, m, wins), *expected, 0.001);
                close(no_more_wins(m, n, wins), *expected, 0.001);
            }
        }
        close(no_more_wins(8, 400, 8 * 400), 1.0, 1e-9);
    }

    #[test]
    fn mann_whitney_goes_over_from_the_exact_to_the_normal_distribution() {
        let numbers = |from: i32, to: i32| (from..to).map(f64::from).collect::<Vec<f64>>();
        // All of one group are below all of the other: twice one of 70 orders.
        close(mann_whitney(&numbers(0, 4), &numbers(4, 8)).unwrap(), 2.0 / 70.0, 1e-12);
        // Nine against nine, worked out by hand: z = (40.5 - 0 - 0.5) / sqrt(9 * 9 * 19 / 12).
        close(mann_whitney(&numbers(0, 9), &numbers(9, 18)).unwrap(), 0.000_412, 2e-6);
        // With ties: ranks 1, 2.5, 4.5 against 2.5, 4.5, 6, and z = (4.5 - 2 - 0.5) / sqrt(9 / 12 * (7 - 12 / 30)).
        close(mann_whitney(&[1.0, 2.0, 3.0], &[2.0, 3.0, 4.0]).unwrap(), 0.368_75, 1e-4);
        assert_eq!(mann_whitney(&[1.0; 20], &[1.0; 20]), Some(1.0));
        assert_eq!(mann_whitney(&[], &[1.0]), None);
    }

    /// Y. Benjamini and Y. Hochberg, Journal of the Royal Statistical Society B 57 (1995), section 3.2: of fifteen, four are found at
    /// 0.05.
    #[test]
    fn false_discovery_rates_agree_with_the_first_example() {
        let ps = [
            0.0001, 0.0004, 0.0019, 0.0095, 0.0201, 0.0278, 0.0298, 0.0344, 0.0459, 0.3240, 0.4262, 0.5719, 0.6528,
            0.7590, 1.000,
        ];
        let qs = false_discovery_rates(&ps);
        assert_eq!(qs.iter().filter(|q| **q <= 0.05).count(), 4);
        close(qs[3], 0.0095 * 15.0 / 4.0, 1e-12);
        close(qs[5], 0.0298 * 15.0 / 7.0, 1e-12);
        close(qs[14], 1.0, 1e-12);
        assert_eq!(false_discovery_rates(&[]), Vec::<f64>::new());
    }
}
