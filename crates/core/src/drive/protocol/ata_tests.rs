use super::*;
use proptest::prelude::*;

fn word(b: &mut [u8], n: usize, value: u16) {
    b[n * 2..n * 2 + 2].copy_from_slice(&value.to_le_bytes());
}

fn string(b: &mut [u8], from: usize, words: usize, value: &str) {
    let padded: Vec<u8> = value.bytes().chain(std::iter::repeat(b' ')).take(words * 2).collect();
    for (i, pair) in padded.chunks(2).enumerate() {
        (b[(from + i) * 2], b[(from + i) * 2 + 1]) = (pair[1], pair[0]);
    }
}

fn sum_up(b: &mut [u8]) {
    b[511] = 0;
    b[511] = b.iter().fold(0u8, |s, x| s.wrapping_add(*x)).wrapping_neg();
}

fn identify() -> Vec<u8> {
    let mut b = vec![0u8; PAGE];
    string(&mut b, 10, 10, "KW-0550 B");
    string(&mut b, 23, 4, "SK08");
    string(&mut b, 27, 20, "Skerry 8 TB");
    word(&mut b, 76, 0b1110);
    word(&mut b, 77, 2 << 1);
    word(&mut b, 82, 1);
    word(&mut b, 83, 0x4000 | 1 << 10);
    word(&mut b, 84, 0x4002);
    word(&mut b, 85, 1 | 1 << 5);
    b[200..208].copy_from_slice(&15_628_053_168u64.to_le_bytes());
    word(&mut b, 106, 0x4000 | 1 << 13 | 3);
    word(&mut b, 206, 1);
    word(&mut b, 217, 7200);
    b[510] = 0xa5;
    sum_up(&mut b);
    b
}

#[test]
fn identity_is_read_field_by_field() {
    let id = IdentifyDevice::decode(&identify()).unwrap();
    assert_eq!((id.serial_number.as_str(), id.model_number.as_str()), ("KW-0550 B", "Skerry 8 TB"));
    assert_eq!(id.firmware_revision, "SK08");
    assert_eq!(id.capacity.get(), 15_628_053_168 * 512);
    assert_eq!((id.logical_sector.get(), id.physical_sector.get()), (512, 4096));
    assert_eq!(id.rotation_rpm, Some(7200));
    assert_eq!((id.sata_best, id.sata_now), (3, 2));
    assert!(id.smart && id.self_test && id.write_cache && id.sct && !id.trim);
}

#[test]
fn sectors_of_4096_bytes_and_damage_are_seen() {
    let mut b = identify();
    word(&mut b, 106, 0x4000 | 1 << 12);
    b[234..238].copy_from_slice(&2048u32.to_le_bytes());
    assert_eq!(IdentifyDevice::decode(&b), Err(PageError::Checksum { page: "IDENTIFY DEVICE" }));
    sum_up(&mut b);
    assert_eq!(IdentifyDevice::decode(&b).unwrap().logical_sector.get(), 4096);
    word(&mut b, 0, 0x8000);
    sum_up(&mut b);
    assert!(IdentifyDevice::decode(&b).unwrap_err().to_string().contains("no ATA device"));
    assert!(IdentifyDevice::decode(&b[..511]).unwrap_err().to_string().contains("511 bytes"));
}

#[test]
fn attributes_stay_raw_and_thresholds_judge_them() {
    let mut b = vec![0u8; PAGE];
    b[2..14].copy_from_slice(&[5, 1, 0, 10, 9, 1, 2, 0, 0, 0, 0, 0]);
    b[14..26].copy_from_slice(&[194, 2, 0, 60, 40, 41, 0, 20, 0, 55, 0, 0]);
    b[363] = 0xf3;
    b[367] = 1 << 4;
    b[372] = 2;
    b[373] = 0xff;
    b[375] = 200;
    sum_up(&mut b);
    let mut data = SmartData::decode(&b).unwrap();
    assert_eq!(data.attributes.len(), 2);
    assert_eq!(data.attributes[0].raw, 0x0201);
    assert!(!data.attributes[0].failed());
    assert_eq!(data.customary_temperature(), Some(Celsius::new(41.0)));
    assert!(data.self_test);
    assert_eq!(data.self_test_running(), Some(70));
    assert_eq!((data.short_self_test_minutes, data.extended_self_test_minutes), (2, 200));
    let mut t = vec![0u8; PAGE];
    t[2..4].copy_from_slice(&[5, 36]);
    sum_up(&mut t);
    data.add_thresholds(&t).unwrap();
    assert!(data.attributes[0].failed() && data.attributes[1].threshold.is_none());
    t[3] = 1;
    assert!(data.add_thresholds(&t).is_err());
    assert!(data.attributes[0].failed(), "a broken page changes nothing");
}

#[test]
fn logs_are_read_newest_first() {
    let mut b = vec![0u8; PAGE];
    b[2..2 + 9].copy_from_slice(&[1, 0x00, 100, 0, 0, 0xff, 0xff, 0xff, 0xff]);
    b[26..26 + 9].copy_from_slice(&[2, 0x70, 200, 0, 0, 7, 0, 0, 0]);
    b[508] = 2;
    sum_up(&mut b);
    let log = decode_self_test_log(&b).unwrap();
    assert_eq!(log.results.len(), 2);
    assert_eq!((log.results[0].kind, log.results[0].failing_lba), (SelfTestKind::Extended, Some(7)));
    assert!(log.results[1].passed && log.results[1].failing_lba.is_none());
    assert_eq!(decode_self_test_log(&[0; PAGE]).unwrap(), SelfTestLog::default());

    let mut e = vec![0u8; PAGE];
    e[1] = 1;
    e[2 + 48 + 7] = 0x25;
    e[2 + 60 + 1] = 0x40;
    e[2 + 60 + 3..2 + 60 + 7].copy_from_slice(&[0x78, 0x56, 0x34, 0xe1]);
    e[452] = 9;
    sum_up(&mut e);
    let (count, entries) = decode_error_log(&e).unwrap();
    assert_eq!((count, entries.len()), (9, 1));
    assert_eq!((entries[0].lba, entries[0].command, entries[0].error), (0x0134_5678, 0x25, 0x40));
}

#[test]
fn temperatures_have_a_sign_and_may_be_missing() {
    let mut b = vec![0u8; PAGE];
    b[0] = 3;
    (b[200], b[202], b[204]) = (0xf6, 0x80, 66);
    let sct = SctStatus::decode(&b).unwrap();
    assert_eq!((sct.temperature, sct.highest), (Some(Celsius::new(-10.0)), None));
    b[0] = 9;
    assert!(SctStatus::decode(&b).is_err());
}

#[test]
fn statistics_count_only_when_valid() {
    let mut b = vec![0u8; PAGE];
    b[2] = 7;
    b[8..16].copy_from_slice(&(3u64 << 62 | 12).to_le_bytes());
    let mut s = DeviceStatistics::default();
    s.add_page(&b).unwrap();
    assert_eq!(s.percentage_used, Some(12));
    b[2] = 1;
    b[24..32].copy_from_slice(&(1u64 << 63 | 12).to_le_bytes());
    s.add_page(&b).unwrap();
    assert_eq!(s.sectors_written, None, "supported, but not valid");
}

proptest! {
    #[test]
    fn no_bytes_make_a_decoder_panic(mut b in proptest::collection::vec(any::<u8>(), 0..700), sound: bool) {
        if sound && b.len() >= PAGE {
            b.truncate(PAGE);
            sum_up(&mut b);
        }
        let _ = IdentifyDevice::decode(&b);
        if let Ok(mut data) = SmartData::decode(&b) {
            let _ = data.add_thresholds(&b);
            let _ = (data.customary_temperature(), data.self_test_running());
        }
        let _ = decode_self_test_log(&b);
        let _ = decode_error_log(&b);
        let _ = SctStatus::decode(&b);
        let _ = DeviceStatistics::default().add_page(&b);
    }
}
