//! What a device is built of, in cells.

use hollow_mile_core::drive::Link;
use hollow_mile_core::drive::health::{Health, Member};
use hollow_mile_core::quantity::units::Bytes;

/// How what is built of others is, in one sentence: what its drives warn of, the warmest, the most worn.
#[must_use]
pub fn wellness(h: &Health) -> String {
    let asked = h.members.iter().filter(|m| m.temperature.is_some() || m.percentage_used.is_some());
    let mut said = vec![match (h.warnings.as_slice(), asked.count()) {
        ([], 0) => "Nothing is known of the health of what it is built of".to_owned(),
        ([], _) => "None of its members warns".to_owned(),
        (all, _) => format!("It warns: {}", all.join("; ")),
    }];
    let warmest = h.members.iter().filter_map(|m| Some((m.temperature?, m))).max_by_key(|m| m.0);
    said.extend(warmest.map(|(t, m)| format!("the warmest, {}, has {t}", m.name)));
    let used = h.members.iter().filter_map(|m| Some((m.percentage_used?, m)));
    let worn = used.max_by(|a, b| a.0.total_cmp(&b.0)).filter(|w| w.0 > 0.0);
    said.extend(worn.map(|(p, m)| format!("the most worn, {}, has used {p:.0} % of its rated life", m.name)));
    format!("{}.", said.join("; "))
}

/// Name (set in by its depth), what it is, serial, capacity, link, temperature, life used.
#[must_use]
pub fn cells(m: &Member) -> Vec<String> {
    let indent = "  ".repeat(usize::from(m.depth.saturating_sub(1)));
    let link = m
        .link
        .as_ref()
        .map(|l| l.shortfall().map_or_else(|| l.words(), |less| format!("{} ({less})", l.words())));
    vec![
        format!("{indent}{}", m.name),
        m.what.clone(),
        m.serial.clone(),
        if m.capacity > Bytes::ZERO { m.capacity.to_string() } else { String::new() },
        link.unwrap_or_default(),
        m.temperature.map(|t| t.to_string()).unwrap_or_default(),
        m.percentage_used.map(|p| format!("{p:.0} %")).unwrap_or_default(),
    ]
}

/// In a line, for a narrow panel: what is not known is left out.
#[must_use]
pub fn line(m: &Member) -> String {
    let indent = "  ".repeat(usize::from(m.depth.saturating_sub(1)));
    let mut said = vec![format!("  {indent}{}  {}", m.name, m.what)];
    said.extend(m.temperature.map(|t| t.to_string()));
    said.extend(m.percentage_used.map(|p| format!("{p:.0} % used")));
    said.extend(m.link.as_ref().map(Link::words));
    said.join("  ·  ")
}
