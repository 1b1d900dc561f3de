//! USB: what a device says that its link could be (Universal Serial Bus 3.2, 9.6.2: the Binary Device Object Store).

use super::u16_at;

/// Descriptor type of a device capability.
const CAPABILITY: u8 = 0x10;
/// Capability of SuperSpeed.
const SUPER_SPEED: u8 = 0x03;
/// Capability of SuperSpeedPlus.
const SUPER_SPEED_PLUS: u8 = 0x0a;

/// The fastest signalling rate of one lane that a device is capable of, Mb/s, from its BOS descriptor with all that follows it; `None` where
/// it tells of none. Bytes that make no sense end the reading.
#[must_use]
pub fn fastest_lane(bos: &[u8]) -> Option<u32> {
    let mut at = usize::from(*bos.first()?);
    let mut best = None;
    while let Some(&length) = bos.get(at) {
        let Some(d) = bos.get(at..at + usize::from(length)).filter(|d| d.len() >= 3) else { break };
        if d[1] == CAPABILITY {
            let here = match d[2] {
                SUPER_SPEED if d.len() >= 6 => super_speed(u16_at(d, 4)),
                SUPER_SPEED_PLUS => super_speed_plus(d),
                _ => None,
            };
            best = best.max(here);
        }
        at += d.len();
    }
    best
}

/// wSpeedsSupported: low, full, high and Gen 1 speed in bits 0 to 3.
const fn super_speed(supported: u16) -> Option<u32> {
    match supported {
        s if s & 1 << 3 != 0 => Some(5_000),
        s if s & 1 << 2 != 0 => Some(480),
        s if s & 1 << 1 != 0 => Some(12),
        _ => None,
    }
}

/// Sublink speed attributes: a mantissa (bits 31:16) and an exponent of thousands (5:4) of bits a second.
fn super_speed_plus(d: &[u8]) -> Option<u32> {
    let speeds = d.get(12..)?.chunks_exact(4);
    let bits = speeds.map(|s| u64::from(u16_at(s, 2)) * 1000u64.pow(u32::from(s[0] >> 4 & 3)));
    bits.max().filter(|b| *b > 0).and_then(|b| u32::try_from(b / 1_000_000).ok())
}

#[cfg(test)]
mod tests {
    use super::*;
    use proptest::prelude::*;

    #[test]
    fn the_fastest_lane_is_read_from_the_capabilities() {
        // BOS; USB 2.0 extension; SuperSpeed with high, full and Gen 1 speed; SuperSpeedPlus with 10 Gb/s both ways.
        let mut bos =
            vec![5, 0x0f, 42, 0, 3, 7, 0x10, 0x02, 2, 0, 0, 0, 10, 0x10, 0x03, 0, 0x0e, 0, 1, 10, 0xff, 7];
        assert_eq!(fastest_lane(&bos), Some(5_000));
        let speed =
            |mantissa: u16, exponent: u8| [exponent << 4, 0x40, mantissa as u8, (mantissa >> 8) as u8];
        bos.extend([20, 0x10, 0x0a, 0, 1, 0, 0, 0, 0, 0x11, 0, 0]);
        bos.extend(speed(10, 3));
        bos.extend(speed(10, 3));
        assert_eq!(fastest_lane(&bos), Some(10_000));
        assert_eq!(fastest_lane(&bos[..30]), Some(5_000), "cut short in the last");
        assert_eq!((fastest_lane(&[]), fastest_lane(&[5, 0x0f, 5, 0, 0])), (None, None));
    }

    proptest! {
        #[test]
        fn whatever_comes_ends(bytes in proptest::collection::vec(any::<u8>(), 0..300)) {
            let _ = fastest_lane(&bytes);
        }
    }
}
