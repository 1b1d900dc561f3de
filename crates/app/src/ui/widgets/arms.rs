//! What experiments showed: the arms side by side, each as long as it is fast.

use hollow_mile_core::conclude::inquiry::{Decision, ToldArm};
use hollow_mile_core::quantity::units::{mb_s_figure, span_words};
use hollow_mile_core::record::ArmKind;

use crate::ui::theme::Theme;
use crate::ui::widgets::panel::Writer;

/// Cells of a name, of a figure, and of a bar at its longest.
const NAME: usize = 14;
const FIGURE: usize = 11;
const BAR: usize = 20;

/// A line of the picture: what was done, a bar, and the figure beside it.
#[derive(Debug, Clone, PartialEq)]
pub struct ArmLine {
    /// What was done, and how often.
    pub name: String,
    /// How fast, as a share of the fastest; none of a rest.
    pub share: Option<f64>,
    /// MB/s, or how long a rest was.
    pub figure: String,
}

/// Parts of a bar, from none to a whole cell, growing to the right.
const PARTS: [&str; 9] = ["", "▏", "▎", "▍", "▌", "▋", "▊", "▉", "█"];

fn bar(share: f64, cells: usize) -> String {
    let eighths = (share.clamp(0.0, 1.0) * (cells * 8) as f64).round() as usize;
    format!("{}{}", PARTS[8].repeat(eighths / 8), PARTS[eighths % 8])
}

/// Draws the arms, a line each, in so many cells.
pub fn draw(all: &[ArmLine], indent: u16, width: u16, out: &mut Writer<'_>, theme: &Theme) {
    let cells = usize::from(width).saturating_sub(usize::from(indent) + NAME + FIGURE + 1).min(BAR);
    for line in all {
        let drawn = line.share.map_or_else(String::new, |s| bar(s, cells));
        let style = line.share.map_or(theme.faint(), |s| theme.speed(s));
        let name = format!("{:indent$}{}", "", line.name, indent = usize::from(indent));
        let at = indent + NAME as u16;
        out.three(&name, (at, &drawn, style), (at + cells as u16 + 1, &line.figure), theme);
    }
}

/// The arms of an inquiry, those of a kind together, in the order in which they first came.
#[must_use]
pub fn lines(decision: &Decision) -> Vec<ArmLine> {
    let mut kinds: Vec<ArmKind> = Vec::new();
    for arm in &decision.arms {
        if !kinds.contains(&arm.kind) {
            kinds.push(arm.kind);
        }
    }
    let of = |kind: ArmKind| decision.arms.iter().filter(move |a: &&ToldArm| a.kind == kind);
    let mean = |kind: ArmKind| {
        let rates: Vec<f64> = of(kind).filter_map(|a| a.mb_s).collect();
        (!rates.is_empty()).then(|| rates.iter().sum::<f64>() / rates.len() as f64)
    };
    let most = kinds.iter().filter_map(|k| mean(*k)).fold(1.0, f64::max);
    kinds
        .iter()
        .map(|kind| {
            let times = of(*kind).count();
            let name = if times > 1 { format!("{} ×{times}", kind.word()) } else { kind.word().to_owned() };
            let seconds: f64 = of(*kind).map(|a| a.seconds).sum();
            match mean(*kind) {
                Some(rate) => {
                    let figure = format!("{} MB/s", mb_s_figure(rate));
                    ArmLine { name, share: Some(rate / most), figure }
                }
                None => ArmLine { name, share: None, figure: span_words(seconds) },
            }
        })
        .collect()
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn arms_of_a_kind_stand_together_and_a_rest_has_no_bar() {
        let arm = |kind, mb_s| ToldArm { kind, seconds: 2.0, mb_s };
        let decision = Decision {
            arms: vec![
                arm(ArmKind::Here, Some(100.0)),
                arm(ArmKind::Elsewhere, Some(400.0)),
                arm(ArmKind::Here, Some(200.0)),
                arm(ArmKind::Rest, None),
            ],
            ..Decision::default()
        };
        let all = lines(&decision);
        let told: Vec<(&str, Option<f64>, &str)> =
            all.iter().map(|l| (l.name.as_str(), l.share, l.figure.as_str())).collect();
        let rest = ("rest", None, span_words(2.0));
        assert_eq!(told[..2], [("here ×2", Some(0.375), "150 MB/s"), ("elsewhere", Some(1.0), "400 MB/s")]);
        assert_eq!(told[2], (rest.0, rest.1, rest.2.as_str()));
        let longest = ArmKind::ALL.map(|k| format!("{} ×4", k.word()).chars().count());
        assert!(longest.iter().all(|n| *n <= NAME), "no name is cut off: {longest:?}");
        assert_eq!((bar(0.375, 8), bar(0.3, 8)), ("███".to_owned(), "██▍".to_owned()));
    }
}
