//! The inks of series: eight that were searched for this, and are told apart by everybody.
//!
//! Each has a contrast of at least 3 to 1 (WCAG 2.2, relative luminance) against a white page and against the dark
//! one, and every pair lies at least 12 apart (CIEDE2000) for normal sight and for the three dichromacies
//! (Machado, Oliveira and Fernandes, 2009, severity 1). A test works both out. Dashes tell series apart, too.

/// The inks.
pub(crate) const INKS: [&str; 8] =
    ["#349ca3", "#de791d", "#7f4cc7", "#cb101e", "#416b7a", "#c469ff", "#82645a", "#94967a"];

/// Dashes of lines, so that ink is not all that tells them apart.
pub(super) const DASHES: [&str; 8] =
    ["", "7 4", "2 3", "12 4", "12 4 2 4", "5 2", "2 6", "16 3 3 3"];

#[cfg(test)]
mod tests {
    use super::*;

    /// Linear light of sRGB (IEC 61966-2-1).
    fn linear(ink: &str) -> [f64; 3] {
        let part = |at: usize| {
            let c = f64::from(u8::from_str_radix(&ink[at..at + 2], 16).unwrap()) / 255.0;
            if c <= 0.04045 { c / 12.92 } else { ((c + 0.055) / 1.055).powf(2.4) }
        };
        [part(1), part(3), part(5)]
    }

    fn times(m: &[[f64; 3]; 3], v: [f64; 3]) -> [f64; 3] {
        m.map(|row| row[0] * v[0] + row[1] * v[1] + row[2] * v[2])
    }

    /// From linear sRGB to CIE XYZ, D65.
    const XYZ: [[f64; 3]; 3] = [
        [0.4124564, 0.3575761, 0.1804375],
        [0.2126729, 0.7151522, 0.0721750],
        [0.0193339, 0.1191920, 0.9503041],
    ];

    /// What is seen: by normal sight, and without one of the three kinds of cones.
    const SIGHTS: [[[f64; 3]; 3]; 4] = [
        [[1.0, 0.0, 0.0], [0.0, 1.0, 0.0], [0.0, 0.0, 1.0]],
        [
            [0.152286, 1.052583, -0.204868],
            [0.114503, 0.786281, 0.099216],
            [-0.003882, -0.048116, 1.051998],
        ],
        [
            [0.367322, 0.860646, -0.227968],
            [0.280085, 0.672501, 0.047413],
            [-0.011820, 0.042940, 0.968881],
        ],
        [
            [1.255528, -0.076749, -0.178779],
            [-0.078411, 0.930809, 0.147602],
            [0.004733, 0.691367, 0.303900],
        ],
    ];

    fn lab(light: [f64; 3]) -> [f64; 3] {
        let xyz = times(&XYZ, light.map(|c| c.clamp(0.0, 1.0)));
        let f = |t: f64| {
            if t > 216.0 / 24389.0 { t.cbrt() } else { (24389.0 / 27.0 * t + 16.0) / 116.0 }
        };
        let (x, y, z) = (f(xyz[0] / 0.95047), f(xyz[1]), f(xyz[2] / 1.08883));
        [116.0 * y - 16.0, 500.0 * (x - y), 200.0 * (y - z)]
    }

    /// CIEDE2000 (Sharma, Wu and Dalal, 2005).
    fn distance(one: [f64; 3], other: [f64; 3]) -> f64 {
        let chroma = |c: [f64; 3]| c[1].hypot(c[2]);
        let mean = (chroma(one) + chroma(other)) / 2.0;
        let seventh = |c: f64| (c.powi(7) / (c.powi(7) + 25f64.powi(7))).sqrt();
        let g = 0.5 * (1.0 - seventh(mean));
        let primed = |c: [f64; 3]| {
            let a = c[1] * (1.0 + g);
            (c[0], a.hypot(c[2]), c[2].atan2(a).to_degrees().rem_euclid(360.0))
        };
        let ((l1, c1, h1), (l2, c2, h2)) = (primed(one), primed(other));
        let turn = match h2 - h1 {
            _ if c1 * c2 == 0.0 => 0.0,
            d if d > 180.0 => d - 360.0,
            d if d < -180.0 => d + 360.0,
            d => d,
        };
        let hue = 2.0 * (c1 * c2).sqrt() * (turn.to_radians() / 2.0).sin();
        let (l, c) = ((l1 + l2) / 2.0, (c1 + c2) / 2.0);
        let h = match h1 + h2 {
            sum if c1 * c2 == 0.0 => sum,
            sum if (h1 - h2).abs() <= 180.0 => sum / 2.0,
            sum if sum < 360.0 => (sum + 360.0) / 2.0,
            sum => (sum - 360.0) / 2.0,
        };
        let cos = |times: f64, plus: f64| (times * h + plus).to_radians().cos();
        let t = 1.0 - 0.17 * cos(1.0, -30.0) + 0.24 * cos(2.0, 0.0) + 0.32 * cos(3.0, 6.0)
            - 0.2 * cos(4.0, -63.0);
        let sl = 1.0 + 0.015 * (l - 50.0).powi(2) / (20.0 + (l - 50.0).powi(2)).sqrt();
        let (sc, sh) = (1.0 + 0.045 * c, 1.0 + 0.015 * c * t);
        let turned = 60.0 * (-((h - 275.0) / 25.0).powi(2)).exp();
        let rt = -2.0 * seventh(c) * turned.to_radians().sin();
        let (dl, dc, dh) = ((l2 - l1) / sl, (c2 - c1) / sc, hue / sh);
        (dl * dl + dc * dc + dh * dh + rt * dc * dh).sqrt()
    }

    #[test]
    fn the_distance_is_that_of_the_paper() {
        // Pairs 1, 7 and 25 of its table.
        let pairs = [
            ([50.0, 2.6772, -79.7751], [50.0, 0.0, -82.7485], 2.0425),
            ([50.0, 0.0, 0.0], [50.0, -1.0, 2.0], 2.3669),
            ([60.2574, -34.0099, 36.2677], [60.4626, -34.1751, 39.4387], 1.2644),
        ];
        for (one, other, wanted) in pairs {
            assert!((distance(one, other) - wanted).abs() < 1e-4, "{}", distance(one, other));
        }
    }

    #[test]
    fn inks_stand_out_from_both_pages_and_from_each_other() {
        let luminance = |ink: &str| times(&XYZ, linear(ink))[1];
        for (i, ink) in INKS.iter().enumerate() {
            for page in ["#ffffff", "#15191d"] {
                let (a, b) = (luminance(ink) + 0.05, luminance(page) + 0.05);
                assert!(a.max(b) / a.min(b) >= 3.0, "{ink} on {page}");
            }
            for other in &INKS[..i] {
                for sight in &SIGHTS {
                    let [a, b] = [ink, other].map(|c| lab(times(sight, linear(c))));
                    assert!(distance(a, b) >= 12.0, "{ink} {other}: {}", distance(a, b));
                }
            }
        }
        assert_eq!(DASHES.iter().collect::<std::collections::HashSet<_>>().len(), DASHES.len());
    }
}
