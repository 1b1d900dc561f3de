//! Embedded and removable cards: wear of eMMC by its extended CSD (JEDEC eMMC 5.1, 7.4), promised rates of SD by its status (SD Physical
//! Layer 6.0, 4.10.2), both as the kernel's sysfs gives them.

/// Life used of one of the two memory types, percent: the middle of the tenth that DEVICE_LIFE_TIME_EST says; 100 and more as 100.
/// `life_time` of sysfs: `0x01 0x02`, types A and B; the more worn counts. `None` where none is told.
#[must_use]
pub fn life_used(life_time: &str) -> Option<f64> {
    let values = life_time.split_whitespace().filter_map(hex);
    // 0 is "not defined"; 1 to 10 are tenths; 11 is more than what was meant.
    let worst = values.filter(|v| (1..=11).contains(v)).max()?;
    Some(if worst == 11 { 100.0 } else { f64::from(worst) * 10.0 - 5.0 })
}

/// PRE_EOL_INFO, in words, where it warns: how much of the reserve is used.
#[must_use]
pub fn reserve_warning(pre_eol_info: &str) -> Option<&'static str> {
    match hex(pre_eol_info.trim())? {
        2 => Some("80 % of its reserved blocks are used"),
        3 => Some("90 % of its reserved blocks are used"),
        _ => None,
    }
}

fn hex(word: &str) -> Option<u32> {
    u32::from_str_radix(word.strip_prefix("0x")?, 16).ok()
}

/// The least rate in sequence that an SD card promises, MB/s, by the best of its speed class, UHS speed grade and video speed class.
/// `ssr` of sysfs: 128 hexadecimal digits, the highest byte first. `None` where it promises none.
#[must_use]
pub fn promised_mb_s(ssr: &str) -> Option<u32> {
    let digits = ssr.trim();
    let byte = |at: usize| u32::from_str_radix(digits.get(2 * at..2 * at + 2)?, 16).ok();
    // Bits 447:440, 399:396 and 391:384 of 512.
    let class = match byte(8)? {
        n @ 1..=3 => 2 * n,
        4 => 10,
        _ => 0,
    };
    let grade = match byte(14)? >> 4 {
        1 => 10,
        3 => 30,
        _ => 0,
    };
    let video = Some(byte(15)?).filter(|v| matches!(v, 6 | 10 | 30 | 60 | 90)).unwrap_or(0);
    Some(class.max(grade).max(video)).filter(|p| *p > 0)
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn life_is_told_in_tenths_and_the_more_worn_type_counts() {
        assert_eq!((life_used("0x01 0x02"), life_used("0x00 0x00")), (Some(15.0), None));
        assert_eq!((life_used("0x0b 0x01"), life_used("0xff"), life_used("x")), (Some(100.0), None, None));
        assert_eq!((reserve_warning("0x01"), reserve_warning("0x03").is_some()), (None, true));
    }

    #[test]
    fn what_a_card_promises_is_the_best_of_its_classes() {
        let ssr = |class: u8, grade: u8, video: u8| {
            let mut bytes = [0u8; 64];
            (bytes[8], bytes[14], bytes[15]) = (class, grade << 4, video);
            bytes.iter().map(|b| format!("{b:02x}")).collect::<String>()
        };
        assert_eq!(promised_mb_s(&ssr(4, 3, 30)), Some(30));
        assert_eq!(promised_mb_s(&ssr(3, 0, 0)), Some(6));
        assert_eq!(promised_mb_s(&ssr(4, 1, 60)), Some(60));
        assert_eq!(
            (promised_mb_s(&ssr(0, 0, 0)), promised_mb_s("0a"), promised_mb_s("ä")),
            (None, None, None)
        );
    }
}
