//! Scales: from figures to pixels, with ticks at round numbers (1, 2 or 5 times a power of ten).

use crate::format::Signs;

/// A linear scale.
#[derive(Clone, Debug, PartialEq)]
pub(super) struct Scale {
    pub(super) low: f64,
    pub(super) high: f64,
    pub(super) step: f64,
}

/// Most ticks of an axis.
const TICKS: f64 = 6.0;

impl Scale {
    /// A scale for figures between two bounds; `from_zero` where it must hold 0.
    pub(super) fn of(low: f64, high: f64, from_zero: bool) -> Scale {
        let (mut low, mut high) = if low <= high { (low, high) } else { (0.0, 1.0) };
        if from_zero {
            (low, high) = (low.min(0.0), high.max(0.0));
        }
        if low == high {
            // One figure alone stands in the middle, or at the end of its bar.
            match low {
                0.0 => high = 1.0,
                _ if from_zero => {}
                _ => (low, high) = (low - low.abs() / 2.0, high + high.abs() / 2.0),
            }
        }
        // Halved first: the range of the largest figures is no number.
        let step = round_up((high / TICKS - low / TICKS).max(f64::MIN_POSITIVE * 1e3));
        Scale { low: (low / step).floor() * step, high: (high / step).ceil() * step, step }
    }

    /// The ticks from the lowest on.
    pub(super) fn ticks(&self) -> Vec<f64> {
        let first = (self.low / self.step).round();
        let last = (self.high / self.step).round();
        let count = (last - first).clamp(0.0, 20.0) as usize;
        (0..=count).map(|i| (first + i as f64) * self.step).collect()
    }

    /// Where a figure stands, from 0 to 1.
    pub(super) fn place(&self, value: f64) -> f64 {
        let range = self.high / 2.0 - self.low / 2.0;
        (value / 2.0 - self.low / 2.0) / range
    }
}

/// The smallest of 1, 2 and 5 times a power of ten that is no smaller than a step.
fn round_up(step: f64) -> f64 {
    let power = 10f64.powf(step.log10().floor());
    let times = [1.0, 2.0, 5.0, 10.0].into_iter().find(|t| t * power >= step * (1.0 - 1e-9));
    times.unwrap_or(10.0) * power
}

/// The figure of a tick, as short as its scale allows: `1.2 M`, `20,000`, `35%`.
pub(super) fn tick_text(value: f64, scale: &Scale, percent: bool, signs: Option<Signs>) -> String {
    let times = if percent { 100.0 } else { 1.0 };
    let (value, step) = (value * times, scale.step * times);
    let largest = scale.high.abs().max(scale.low.abs()) * times;
    let (unit, name) = match largest {
        // Neither words nor zeros help with such figures.
        l if !(1e-5..1e15).contains(&l) => {
            let text = format!("{:e}", (value / step).round() * step);
            return if value == 0.0 || text.len() > 9 { format!("{value:.0e}") } else { text };
        }
        _ if percent => (1.0, "%"),
        l if l >= 1e12 => (1e12, " tn"),
        l if l >= 1e9 => (1e9, " bn"),
        l if l >= 1e6 => (1e6, " M"),
        _ => (1.0, ""),
    };
    let step = step / unit;
    let digits = (-step.log10() - 1e-9).ceil().max(0.0) as usize;
    let text = match value {
        0.0 => "0".to_owned(),
        value => crate::cells::with_groups(&format!("{:.digits$}", value / unit)),
    };
    // Zero has no unit, but keeps its percent.
    let name = if value == 0.0 && !percent { "" } else { name };
    format!("{}{name}", signs.map_or_else(|| text.clone(), |signs| signs.write(&text)))
}

#[cfg(test)]
mod tests {
    use super::*;
    use proptest::prelude::*;
    use rstest::rstest;

    #[rstest]
    #[case(0.0, 72_924.0, true, "0 20,000 40,000 60,000 80,000")]
    #[case(0.001, 1e9, true, "0 0.2 bn 0.4 bn 0.6 bn 0.8 bn 1.0 bn")]
    #[case(-5.0, 12.0, true, "-5 0 5 10 15")]
    #[case(0.0, 0.0, true, "0 0.2 0.4 0.6 0.8 1.0")]
    #[case(7.0, 7.0, true, "0 2 4 6 8")]
    #[case(0.0, 1.2e6, true, "0 0.2 M 0.4 M 0.6 M 0.8 M 1.0 M 1.2 M")]
    fn ticks_are_round_numbers(
        #[case] low: f64,
        #[case] high: f64,
        #[case] zero: bool,
        #[case] expected: &str,
    ) {
        let scale = Scale::of(low, high, zero);
        let ticks = scale.ticks().into_iter().map(|t| tick_text(t, &scale, false, None));
        assert_eq!(ticks.collect::<Vec<_>>().join(" "), expected, "{scale:?}");
    }

    #[test]
    fn shares_are_percent() {
        let scale = |step| Scale { low: 0.0, high: 0.5, step };
        assert_eq!(tick_text(0.25, &scale(0.05), true, None), "25%");
        assert_eq!(tick_text(0.005, &scale(0.005), true, None), "0.5%");
    }

    proptest! {
        #[test]
        fn every_figure_lies_on_its_scale(a in any::<f64>(), b in any::<f64>(), zero in any::<bool>()) {
            prop_assume!(a.is_finite() && b.is_finite());
            let (low, high) = (a.min(b), a.max(b));
            let scale = Scale::of(low, high, zero);
            let ticks = scale.ticks();
            prop_assert!(ticks.len() <= 21 && !ticks.is_empty());
            for value in [low, high] {
                let place = scale.place(value);
                prop_assert!((-1e-6..=1.0 + 1e-6).contains(&place) || !place.is_finite(), "{place} {scale:?}");
            }
            prop_assert!(!zero || (scale.low <= 0.0 && scale.high >= 0.0));
        }
    }
}
