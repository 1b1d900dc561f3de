//! ATA commands inside SCSI ones: ATA PASS-THROUGH (16) and the sense data that comes back (SCSI / ATA Translation - 4,
//! 12.2.2; sense data formats in SCSI Primary Commands - 5, 4.5).

/// Which way the data of an ATA command goes.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Transfer {
    /// No data.
    None,
    /// Sectors of 512 B from the drive, by PIO.
    In(u8),
    /// Sectors of 512 B to the drive, by PIO.
    Out(u8),
}

impl Transfer {
    /// PROTOCOL, and T_DIR, BYT_BLOK and T_LENGTH.
    const fn codes(self) -> (u8, u8) {
        match self {
            // Non-data.
            Self::None => (3, 0),
            // PIO data-in; T_DIR from the device, BYT_BLOK in blocks, T_LENGTH in the count field.
            Self::In(_) => (4, 1 << 3 | 1 << 2 | 2),
            Self::Out(_) => (5, 1 << 2 | 2),
        }
    }

    const fn sectors(self) -> u8 {
        match self {
            Self::None => 0,
            Self::In(n) | Self::Out(n) => n,
        }
    }
}

/// The registers of a 28-bit ATA command.
#[derive(Debug, Clone, Copy, Default, PartialEq, Eq)]
pub struct Command {
    /// COMMAND.
    pub command: u8,
    /// FEATURE.
    pub feature: u8,
    /// LBA, bits 23:0.
    pub lba: u32,
}

/// IDENTIFY DEVICE (ACS-4, 7.13).
pub const IDENTIFY: Command = Command { command: 0xec, feature: 0, lba: 0 };

/// A SMART command: its subcommand, and the log address or self-test in LBA 7:0. LBA 23:8 carries the key C24Fh.
#[must_use]
pub const fn smart(feature: u8, low: u8) -> Command {
    Command { command: 0xb0, feature, lba: 0x00c2_4f00 | low as u32 }
}

/// The 16 bytes of ATA PASS-THROUGH (16). With `return_registers` the drive's registers come back as sense data.
#[must_use]
pub const fn pass_through(command: Command, transfer: Transfer, return_registers: bool) -> [u8; 16] {
    let mut cdb = [0u8; 16];
    cdb[0] = 0x85;
    let (protocol, flags) = transfer.codes();
    cdb[1] = protocol << 1;
    cdb[2] = flags | if return_registers { 1 << 5 } else { 0 };
    cdb[4] = command.feature;
    cdb[6] = transfer.sectors();
    cdb[8] = command.lba as u8;
    cdb[10] = (command.lba >> 8) as u8;
    cdb[12] = (command.lba >> 16) as u8;
    cdb[14] = command.command;
    cdb
}

/// The registers of a 48-bit ATA command.
#[derive(Debug, Clone, Copy, Default, PartialEq, Eq)]
pub struct Extended {
    /// COMMAND.
    pub command: u8,
    /// FEATURE.
    pub feature: u16,
    /// COUNT.
    pub count: u16,
    /// LBA, bits 47:0.
    pub lba: u64,
}

/// As [`pass_through`], of a 48-bit command; its registers come back.
#[must_use]
pub const fn pass_through_extended(command: Extended, transfer: Transfer) -> [u8; 16] {
    let mut cdb = [0u8; 16];
    let (protocol, flags) = transfer.codes();
    let (feature, count, lba) =
        (command.feature.to_be_bytes(), command.count.to_be_bytes(), command.lba.to_le_bytes());
    cdb[0] = 0x85;
    // EXTEND: each register has an earlier byte before the later one.
    cdb[1] = protocol << 1 | 1;
    cdb[2] = flags | 1 << 5;
    (cdb[3], cdb[4]) = (feature[0], feature[1]);
    (cdb[5], cdb[6]) = (count[0], count[1]);
    (cdb[7], cdb[8]) = (lba[3], lba[0]);
    (cdb[9], cdb[10]) = (lba[4], lba[1]);
    (cdb[11], cdb[12]) = (lba[5], lba[2]);
    cdb[14] = command.command;
    cdb
}

/// What a drive's registers were when a command ended.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub struct Registers {
    /// ERROR.
    pub error: u8,
    /// STATUS.
    pub status: u8,
    /// COUNT, bits 15:0 where the command was a 48-bit one.
    pub count: u16,
    /// LBA, bits 23:0.
    pub lba: u32,
}

/// What sense data says.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub struct Sense {
    /// Sense key: 5 is ILLEGAL REQUEST, 3 MEDIUM ERROR.
    pub key: u8,
    /// Additional sense code and its qualifier.
    pub code: (u8, u8),
    /// Registers, where an ATA Status Return descriptor came (SAT-4, 12.2.2.7), or the fixed format's equivalent.
    pub registers: Option<Registers>,
}

impl Sense {
    /// Reads sense data of either format; `None` when it is neither.
    #[must_use]
    pub fn decode(b: &[u8]) -> Option<Self> {
        let at = |i: usize| b.get(i).copied().unwrap_or(0);
        match at(0) & 0x7f {
            0x72 | 0x73 => {
                let end = (8 + usize::from(at(7))).min(b.len());
                let mut from = 8;
                let mut registers = None;
                while from + 2 <= end {
                    let length = 2 + usize::from(at(from + 1));
                    if at(from) == 0x09 && length >= 14 && from + 14 <= b.len() {
                        registers = Some(Registers {
                            error: at(from + 3),
                            status: at(from + 13),
                            count: u16::from(at(from + 4)) << 8 | u16::from(at(from + 5)),
                            lba: u32::from(at(from + 7))
                                | u32::from(at(from + 9)) << 8
                                | u32::from(at(from + 11)) << 16,
                        });
                    }
                    from += length;
                }
                Some(Self { key: at(1) & 0x0f, code: (at(2), at(3)), registers })
            }
            0x70 | 0x71 if b.len() >= 8 => {
                let code = (at(12), at(13));
                // ATA PASS-THROUGH INFORMATION AVAILABLE: registers lie in INFORMATION and COMMAND-SPECIFIC INFORMATION.
                let told = code == (0x00, 0x1d) && at(8) & 0x40 == 0;
                let registers = told.then(|| Registers {
                    error: at(3),
                    status: at(4),
                    // The earlier byte has no place in this format; where it is not 0 (COUNT UPPER NONZERO) nothing is told.
                    count: u16::from(at(6)),
                    lba: u32::from(at(9)) | u32::from(at(10)) << 8 | u32::from(at(11)) << 16,
                });
                Some(Self { key: at(2) & 0x0f, code, registers })
            }
            _ => None,
        }
    }

    /// The device or a bridge does not know the command.
    #[must_use]
    pub const fn is_unsupported(&self) -> bool {
        self.key == 5
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use proptest::prelude::*;

    #[test]
    fn a_command_lies_in_the_bytes_that_the_standard_says() {
        let cdb = pass_through(smart(0xd5, 0x06), Transfer::In(1), false);
        assert_eq!(cdb, [0x85, 0x08, 0x0e, 0, 0xd5, 0, 1, 0, 0x06, 0, 0x4f, 0, 0xc2, 0, 0xb0, 0]);
        let cdb = pass_through(smart(0xda, 0), Transfer::None, true);
        assert_eq!((cdb[1], cdb[2]), (0x06, 0x20));
    }

    #[test]
    fn registers_come_back_in_both_formats() {
        let mut b = [0u8; 22];
        (b[0], b[1], b[2], b[3], b[7]) = (0x72, 1, 0, 0x1d, 14);
        (b[8], b[9], b[12], b[13], b[17], b[19], b[21]) = (0x09, 0x0c, 0xc0, 0x01, 0xf4, 0x2c, 0x50);
        let sense = Sense::decode(&b).unwrap();
        assert_eq!(
            sense.registers,
            Some(Registers { error: 0, status: 0x50, count: 0xc001, lba: 0x002c_f400 })
        );
        let mut f = [0u8; 18];
        (f[0], f[2], f[4], f[10], f[11], f[12], f[13]) = (0x70, 1, 0x50, 0x4f, 0xc2, 0, 0x1d);
        assert_eq!(Sense::decode(&f).unwrap().registers.unwrap().lba, 0x00c2_4f00);
        (f[2], f[12], f[13]) = (5, 0x20, 0);
        assert!(Sense::decode(&f).is_some_and(|s| s.is_unsupported() && s.registers.is_none()));
        assert_eq!(Sense::decode(&[0; 32]), None);
    }

    proptest! {
        #[test]
        fn no_bytes_make_it_panic(b in proptest::collection::vec(any::<u8>(), 0..80)) {
            let _ = Sense::decode(&b);
        }
    }
}
