//! NVM Express power states: what a controller offers, and which is set.
//!
//! Power State Descriptors in Identify Controller (NVM Express Base 2.0, figures 275 and 276); Power Management, Feature Identifier 02h
//! (5.27.1.2).

use serde::{Deserialize, Serialize};

use super::{PageError, filled, u16_at, u32_at};

/// Offset of the first descriptor in Identify Controller, and length of each.
const FIRST: usize = 2048;
const EACH: usize = 32;

/// A power state of a controller.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize)]
pub struct PowerState {
    /// Its number; 0 draws the most.
    pub number: u8,
    /// Maximum Power (MP), W; `None` where it is not reported.
    pub maximum_w: Option<f64>,
    /// It moves data: Non-Operational State (NOPS) is not set.
    pub operational: bool,
    /// Entry Latency (ENLAT), µs; `None` where it is not reported.
    pub entry_us: Option<u32>,
    /// Exit Latency (EXLAT), µs.
    pub exit_us: Option<u32>,
    /// Idle Power (IDLP), W.
    pub idle_w: Option<f64>,
    /// Active Power (ACTP), W, under the workload that the standard defines.
    pub active_w: Option<f64>,
}

impl PowerState {
    /// Those of a controller, from its Identify Controller data structure.
    ///
    /// # Errors
    /// When it is short, or blank.
    pub fn decode_all(bytes: &[u8]) -> Result<Vec<Self>, PageError> {
        let b = filled("Identify Controller", bytes, 4096)?;
        // Number of Power States Support (NPSS) is zero-based, and there are 32 descriptors.
        let count = usize::from(b[263]).min(31) + 1;
        let reported = |v: u16, unit: f64| (v > 0).then(|| f64::from(v) * unit);
        // Idle and Active Power Scale, bits 7:6: 1 is 0.1 mW, 2 is 10 mW.
        let scaled = |v: u16, scale: u8| match scale >> 6 {
            1 => reported(v, 1e-4),
            2 => reported(v, 1e-2),
            _ => None,
        };
        let one = |i: usize| {
            let d = &b[FIRST + i * EACH..FIRST + (i + 1) * EACH];
            Self {
                number: i as u8,
                maximum_w: reported(u16_at(d, 0), if d[3] & 1 == 0 { 1e-2 } else { 1e-4 }),
                operational: d[3] & 2 == 0,
                entry_us: Some(u32_at(d, 4)).filter(|us| *us > 0),
                exit_us: Some(u32_at(d, 8)).filter(|us| *us > 0),
                idle_w: scaled(u16_at(d, 16), d[18]),
                active_w: scaled(u16_at(d, 20), d[22]),
            }
        };
        Ok((0..count).map(one).collect())
    }
}

/// The power state that is set, from dword 0 of Get Features (bits 4:0).
#[must_use]
pub const fn power_state(dword0: u32) -> u8 {
    (dword0 & 0x1f) as u8
}

#[cfg(test)]
mod tests {
    use super::*;
    use proptest::prelude::*;

    #[test]
    fn states_are_read_field_by_field() {
        let mut b = vec![0u8; 4096];
        b[263] = 2;
        let put = |b: &mut Vec<u8>, state: usize, at: usize, bytes: &[u8]| {
            let at = FIRST + state * EACH + at;
            b[at..at + bytes.len()].copy_from_slice(bytes);
        };
        // 8.25 W, active 6.5 W in steps of 10 mW.
        put(&mut b, 0, 0, &825u16.to_le_bytes());
        put(&mut b, 0, 20, &650u16.to_le_bytes());
        put(&mut b, 0, 22, &[2 << 6 | 1]);
        // 5 mW in steps of 0.1 mW, moves nothing, 10 ms in and 45 ms out, idle 4 mW.
        put(&mut b, 2, 0, &50u16.to_le_bytes());
        put(&mut b, 2, 3, &[3]);
        put(&mut b, 2, 4, &10_000u32.to_le_bytes());
        put(&mut b, 2, 8, &45_000u32.to_le_bytes());
        put(&mut b, 2, 16, &40u16.to_le_bytes());
        put(&mut b, 2, 18, &[1 << 6]);
        let all = PowerState::decode_all(&b).unwrap();
        assert_eq!(all.len(), 3);
        let first = PowerState {
            number: 0,
            maximum_w: Some(8.25),
            operational: true,
            entry_us: None,
            exit_us: None,
            idle_w: None,
            active_w: Some(6.5),
        };
        assert_eq!(all[0], first);
        let last = PowerState {
            number: 2,
            maximum_w: Some(0.005),
            operational: false,
            entry_us: Some(10_000),
            exit_us: Some(45_000),
            idle_w: Some(0.004),
            active_w: None,
        };
        assert_eq!(all[2], last);
        assert_eq!((all[1].maximum_w, all[1].operational), (None, true), "nothing reported is nothing");
        assert_eq!(power_state(0xffff_ff64), 4);
        assert!(PowerState::decode_all(&b[..4000]).is_err() && PowerState::decode_all(&[0; 4096]).is_err());
    }

    proptest! {
        #[test]
        fn whatever_a_controller_says_is_no_panic(bytes in proptest::collection::vec(any::<u8>(), 4000..4200)) {
            if let Ok(all) = PowerState::decode_all(&bytes) {
                prop_assert!((1..=32).contains(&all.len()));
            }
        }
    }
}
