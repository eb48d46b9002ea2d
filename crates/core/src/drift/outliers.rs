//! Odd ones out in numbers: how far from the median, measured by what is usual among the peers.

use rust_decimal::Decimal;

use super::compare::median;

/// What the median absolute deviation is multiplied by, so that it is the standard deviation where numbers are normal.
const SCALE: Decimal = Decimal::from_parts(14_826, 0, 0, false, 4);
/// What lies farther from the median than so many of these is unusual.
const USUAL: Decimal = Decimal::from_parts(3, 0, 0, false, 0);

/// What is usual among numbers, and which are not.
#[derive(Clone, Debug, PartialEq)]
pub struct Outliers {
    /// The median.
    pub median: Decimal,
    /// The median of how far the numbers are from it.
    pub mad: Decimal,
    /// From where to where numbers are usual, the ends included.
    pub usual: [Decimal; 2],
    /// The unusual ones, the farthest first.
    pub outliers: Vec<Outlier>,
}

/// A number that is unusual.
#[derive(Clone, Debug, PartialEq)]
pub struct Outlier {
    /// Its position among all.
    pub at: usize,
    /// The number.
    pub value: Decimal,
    /// How far it is from the median, in scaled deviations; none where these are 0.
    pub distance: Option<f64>,
}

/// Finds the numbers that are unusual among all; none where there is no number, or they are too large to be reckoned with.
pub fn outliers(numbers: &[Decimal]) -> Option<Outliers> {
    let median_of_all = median(numbers.to_vec())?;
    let apart = |number: &Decimal| number.checked_sub(median_of_all).map(|apart| apart.abs());
    let mad = median(numbers.iter().map(apart).collect::<Option<Vec<Decimal>>>()?)?;
    let unit = mad.checked_mul(SCALE)?;
    let reach = unit.checked_mul(USUAL)?;
    let usual = [median_of_all.checked_sub(reach)?.normalize(), median_of_all.checked_add(reach)?.normalize()];
    let is_odd = |number: &Decimal| *number < usual[0] || *number > usual[1];
    let distance = |number: &Decimal| {
        let parts = apart(number)?.checked_div(unit)?;
        f64::try_from(parts).ok()
    };
    let mut outliers: Vec<Outlier> = numbers
        .iter()
        .enumerate()
        .filter(|(_, number)| is_odd(number))
        .map(|(at, number)| Outlier { at, value: *number, distance: distance(number) })
        .collect();
    outliers.sort_by_key(|one| (std::cmp::Reverse(apart(&one.value)), one.at));
    Some(Outliers { median: median_of_all, mad, usual, outliers })
}

#[cfg(test)]
mod tests {
    use super::*;

    fn of(texts: &[&str]) -> Outliers {
        outliers(&texts.iter().map(|text| text.parse().unwrap()).collect::<Vec<Decimal>>()).unwrap()
    }

    /// P. J. Rousseeuw and M. Hubert, Robust statistics for outlier detection (2011), section 2: one of five measurements is misread.
    #[test]
    fn a_misread_measurement_stands_out() {
        let found = of(&["6.27", "6.34", "6.25", "63.1", "6.28"]);
        assert_eq!((found.median, found.mad), ("6.28".parse().unwrap(), "0.03".parse().unwrap()));
        assert_eq!(found.outliers.iter().map(|one| one.at).collect::<Vec<_>>(), [3]);
        let unit = 0.03 * 1.4826;
        assert!((found.outliers[0].distance.unwrap() - 56.82 / unit).abs() < 1e-9);
        assert_eq!(of(&["6.27", "6.34", "6.25", "6.31", "6.28"]).outliers, []);
    }

    #[test]
    fn where_most_are_equal_whatever_differs_is_odd() {
        let found = of(&["5", "5", "5", "5", "5.1"]);
        assert_eq!(found.usual, [Decimal::from(5), Decimal::from(5)]);
        assert_eq!(found.outliers, [Outlier { at: 4, value: "5.1".parse().unwrap(), distance: None }]);
        assert_eq!(outliers(&[]), None);
    }

    #[test]
    fn the_ends_of_the_usual_range_belong_to_it() {
        // The median is 3 and the deviation 1, so that 3 + 3 * 1.4826 is the last usual number.
        let found = of(&["1", "2", "3", "4", "7.4478"]);
        assert_eq!(found.outliers, []);
        assert_eq!(of(&["1", "2", "3", "4", "7.4479"]).outliers.len(), 1);
    }
}
