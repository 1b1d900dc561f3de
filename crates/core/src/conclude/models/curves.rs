//! Curves along which a cache comes back with rest, and how well they agree with what was measured.

/// The shape in which it comes back. Drives do not ask what curves we know: what lies between the rests is left as open as these leave it.
#[derive(Debug, Clone, Copy, PartialEq)]
pub(super) enum Shape {
    /// As a power of the time until it is whole: at 1 as much in each second, below quickly at first and above slowly at first.
    Power(f64),
    /// At two paces, each of them even: after this share of the time this share is back. Each brings back a fifth at least.
    Knee(f64, f64),
    /// As much of what is missing in each second.
    Slowing,
    /// Slow at both ends: the odds of what is back are this power of those of the time.
    Ends(f64),
}

impl Shape {
    /// The share of the scale after which this share is back.
    pub(super) fn until(self, share: f64) -> f64 {
        match self {
            Self::Power(p) => share.powf(1.0 / p),
            Self::Knee(time, back) if share <= back => share / back * time,
            Self::Knee(time, back) => time + (share - back) / (1.0 - back) * (1.0 - time),
            Self::Slowing => -(1.0 - share).ln(),
            Self::Ends(p) => {
                let odds = (share / (1.0 - share)).powf(1.0 / p);
                odds / (1.0 + odds)
            }
        }
    }
}

/// What is tried first of each family.
pub(super) const FAMILIES: [&[Shape]; 4] = [
    &[Shape::Power(1.0), Shape::Power(0.5), Shape::Power(0.7), Shape::Power(1.6)],
    &[Shape::Knee(0.3, 0.7), Shape::Knee(0.7, 0.3), Shape::Knee(0.2, 0.4), Shape::Knee(0.5, 0.8)],
    &[Shape::Slowing],
    &[Shape::Ends(1.4), Shape::Ends(2.0), Shape::Ends(2.8)],
];

/// A curve: nothing for so long, then in this shape.
#[derive(Debug, Clone, Copy)]
pub(super) struct Curve {
    pub(super) shape: Shape,
    pub(super) delay: f64,
    /// Until it is whole, or the time constant.
    pub(super) scale: f64,
    /// What of the cache goes with each share of fill.
    pub(super) shrinks: f64,
}

impl Curve {
    /// Share that is back after such a rest.
    pub(super) fn at(&self, rest_s: f64) -> f64 {
        let x = ((rest_s - self.delay) / self.scale).max(0.0);
        match self.shape {
            Shape::Power(1.0) => x.min(1.0),
            Shape::Power(p) => x.min(1.0).powf(p),
            Shape::Knee(time, back) if x <= time => x / time * back,
            Shape::Knee(time, back) => (back + (x - time) / (1.0 - time) * (1.0 - back)).min(1.0),
            Shape::Slowing => 1.0 - (-x).exp(),
            Shape::Ends(_) if x >= 1.0 => 1.0,
            Shape::Ends(p) => {
                let odds = (x / (1.0 - x)).powf(p);
                odds / (1.0 + odds)
            }
        }
    }

    /// Rest for this share.
    pub(super) fn rest_for(&self, share: f64) -> f64 {
        self.delay + self.scale * self.shape.until(share)
    }
}

/// A write as the fit sees it.
pub(super) struct Point {
    /// `None`: before the haul, as long as may be.
    pub(super) rest_s: Option<f64>,
    pub(super) bytes: f64,
    pub(super) at_least: bool,
    /// Fill over that of the first write.
    pub(super) fuller: f64,
    pub(super) variance: f64,
}

/// A curve with what it leaves over.
#[derive(Debug, Clone, Copy)]
pub(super) struct Fitted {
    pub(super) curve: Curve,
    pub(super) whole: f64,
    /// Sum of the squares of what is left over, in standard errors.
    pub(super) cost: f64,
    /// Information about the whole: 1 / its variance for this curve.
    pub(super) information: f64,
}

pub(super) fn fit(curve: Curve, points: &[Point]) -> Option<Fitted> {
    let share = |p: &Point| {
        let room = (1.0 - curve.shrinks * p.fuller).max(0.0);
        p.rest_s.map_or(1.0, |t| curve.at(t)) * room
    };
    // What is only a lower bound counts where the curve stays below it: found again and again until it stays.
    let mut counted: Vec<bool> = points.iter().map(|p| !p.at_least).collect();
    for _ in 0..4 {
        let of = || points.iter().zip(&counted).filter(|(_, c)| **c).map(|(p, _)| p);
        let information: f64 = of().map(|p| share(p).powi(2) / p.variance).sum();
        if information <= 0.0 {
            return None;
        }
        let whole = of().map(|p| share(p) * p.bytes / p.variance).sum::<f64>() / information;
        let cost = of().map(|p| (whole * share(p) - p.bytes).powi(2) / p.variance).sum();
        let now: Vec<bool> = points.iter().map(|p| !p.at_least || whole * share(p) < p.bytes).collect();
        if now == counted {
            return Some(Fitted { curve, whole, cost, information });
        }
        counted = now;
    }
    None
}
