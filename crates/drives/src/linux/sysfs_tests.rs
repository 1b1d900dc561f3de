//! Made-up folders of sysfs, and what is read from them.

use super::*;
use std::os::unix::fs::symlink;

fn put(root: &Path, path: &str, content: &str) {
    let path = root.join(path);
    std::fs::create_dir_all(path.parent().unwrap()).unwrap();
    std::fs::write(path, content).unwrap();
}

/// An NVMe drive with a partition under LVM, at half its link, and a SATA disk.
fn copy() -> (tempfile::TempDir, Sysfs) {
    let dir = tempfile::tempdir().unwrap();
    let root = &dir.path().join("sys");
    let slot = "devices/pci0000:00/0000:00:01.0/0000:01:00.0";
    let nvme = format!("{slot}/nvme/nvme0/nvme0n1");
    for (name, value) in [
        ("current_link_speed", "8.0 GT/s PCIe\n"),
        ("max_link_speed", "16.0 GT/s PCIe\n"),
        ("current_link_width", "2"),
        ("max_link_width", "4"),
    ] {
        put(root, &format!("{slot}/{name}"), value);
    }
    for (name, value) in [
        ("dev", "259:0\n"),
        ("size", "7814037168\n"),
        ("ro", "0\n"),
        ("queue/logical_block_size", "512\n"),
        ("queue/physical_block_size", "4096\n"),
        ("queue/scheduler", "[none] mq-deadline\n"),
        ("queue/write_cache", "write back\n"),
        ("queue/discard_max_bytes", "2199023255040\n"),
        ("nvme0n1p1/partition", "1\n"),
        ("nvme0n1p1/dev", "259:1\n"),
        ("nvme0n1p1/size", "2048\n"),
        ("nvme0n1p1/holders/dm-0/dev", "253:0\n"),
    ] {
        put(root, &format!("{nvme}/{name}"), value);
    }
    let controller = format!("{slot}/nvme/nvme0");
    for (name, value) in
        [("serial", "KW 0417  \n"), ("model", "Ptarmigan\x1b 4 TB \n"), ("firmware_rev", "PT20\n")]
    {
        put(root, &format!("{controller}/{name}"), value);
    }
    symlink(root.join(&controller), root.join(format!("{nvme}/device"))).unwrap();
    let disk = "devices/pci0000:00/0000:00:1f.2/ata3/host2/target2:0:0/2:0:0:0/block/sda";
    put(root, &format!("{disk}/dev"), "8:0\n");
    put(root, &format!("{disk}/size"), "15628053168\n");
    put(root, &format!("{disk}/queue/rotational"), "1\n");
    std::fs::create_dir_all(root.join(disk).join("device")).unwrap();
    std::fs::write(root.join(disk).join("device/vpd_pg80"), b"\0\x80\0\x08 KW-0550").unwrap();
    put(root, "devices/pci0000:00/0000:00:1f.2/ata3/link3/ata_link/link3/sata_spd", "3.0 Gbps\n");
    put(root, "devices/virtual/block/ram0/dev", "1:0\n");
    put(root, "devices/virtual/block/ram0/size", "8\n");
    std::fs::create_dir_all(root.join("block")).unwrap();
    std::fs::create_dir_all(root.join("dev/block")).unwrap();
    for (link, to) in [
        ("block/nvme0n1", nvme.clone()),
        ("block/sda", disk.into()),
        ("block/ram0", "devices/virtual/block/ram0".into()),
        ("dev/block/259:0", nvme.clone()),
        ("dev/block/259:1", format!("{nvme}/nvme0n1p1")),
    ] {
        symlink(root.join(to), root.join(link)).unwrap();
    }
    let sysfs = Sysfs::at(dir.path());
    (dir, sysfs)
}

#[test]
fn drives_are_listed_with_who_they_are_and_what_holds_them() {
    let (_dir, sysfs) = copy();
    let drives = sysfs.drives();
    assert_eq!(drives.iter().map(|d| d.name.as_str()).collect::<Vec<_>>(), ["nvme0n1", "sda"]);
    let id = drives[0].identity();
    assert_eq!((id.serial.as_str(), id.model.as_str()), ("KW 0417", "Ptarmigan? 4 TB"));
    assert_eq!(id.capacity.get(), 7_814_037_168 * 512);
    let facts = id.device.unwrap();
    assert_eq!((facts.scheduler.as_str(), facts.physical_block.get()), ("none", 4096));
    assert!(facts.discard && facts.write_cache == "write back");
    let link = id.link.unwrap();
    assert_eq!(link.words(), "PCIe 3.0 of 4.0 x2 of x4");
    assert!(link.shortfall().unwrap().ends_with("a quarter of the bus"));
    assert_eq!(sysfs.by_number((259, 1)).unwrap().holders(), ["dm-0"]);
    assert_eq!(drives[0].partitions()[0].size.get(), 2048 * 512);
    assert!(drives[0].exists() && !drives[0].is_read_only());
    let id = drives[1].identity();
    assert_eq!((id.serial.as_str(), drives[1].transport().as_str()), ("KW-0550", "ata"));
    assert!(id.rotational && id.link.unwrap().words() == "SATA 3 Gb/s");
}

#[test]
fn a_stick_a_card_and_a_zoned_drive_are_told_by_what_they_say_of_themselves() {
    let (_dir, sysfs) = copy();
    let root = &sysfs.root;
    let port = "devices/pci0000:00/0000:00:14.0/usb2/2-3";
    let disk = format!("{port}/2-3:1.0/host6/target6:0:0/6:0:0:0/block/sdc");
    for (name, value) in [
        ("speed", "480\n"),
        ("version", " 3.20\n"),
        ("idVendor", "1d6b\n"),
        ("manufacturer", "Fulmar\n"),
        ("product", "Dock B2\n"),
    ] {
        put(root, &format!("{port}/{name}"), value);
    }
    put(root, &format!("{disk}/dev"), "8:32\n");
    put(root, &format!("{disk}/size"), "4096\n");
    put(root, "bus/usb/drivers/uas/bind", "");
    symlink(root.join("bus/usb/drivers/uas"), root.join(format!("{port}/2-3:1.0/driver"))).unwrap();
    let card = "devices/platform/mmc0/mmc0:0001/block/mmcblk0";
    put(root, &format!("{card}/dev"), "179:0\n");
    put(root, &format!("{card}/size"), "4096\n");
    for (name, value) in
        [("name", "KW08M\n"), ("fwrev", "0x9\n"), ("life_time", "0x03 0x02\n"), ("pre_eol_info", "0x02\n")]
    {
        put(root, &format!("{card}/device/{name}"), value);
    }
    for (name, value) in [
        ("zoned", "host-managed\n"),
        ("chunk_sectors", "1024\n"),
        ("max_open_zones", "3\n"),
        ("max_active_zones", "0\n"),
    ] {
        put(root, &format!("{card}/queue/{name}"), value);
    }
    for (number, to) in [("8:32", disk.as_str()), ("179:0", card)] {
        symlink(root.join(to), root.join(format!("dev/block/{number}"))).unwrap();
    }
    let stick = sysfs.by_number((8, 32)).unwrap().identity();
    assert_eq!(stick.link.unwrap().words(), "USB 480 of 5000 Mb/s");
    assert_eq!(stick.device.unwrap().bridge, "Fulmar Dock B2 (uas)");
    // What the device says it is capable of outranks its version.
    let mut bos = vec![5u8, 0x0f, 0, 0, 1, 20, 0x10, 0x0a, 0, 1, 0, 0, 0, 0, 0x11, 0, 0];
    bos.extend([0x30, 0x40, 20, 0, 0x30, 0x40, 20, 0]);
    std::fs::write(root.join(format!("{port}/bos_descriptors")), bos).unwrap();
    let link = sysfs.by_number((8, 32)).unwrap().link().unwrap();
    assert_eq!(link.shortfall().unwrap(), "USB 480 of 20000 Mb/s: 2 % of the bus");
    let block = sysfs.by_number((179, 0)).unwrap();
    assert_eq!(block.card_wear(), (Some(25.0), Some("80 % of its reserved blocks are used")));
    let id = block.identity();
    assert_eq!((id.model.as_str(), id.firmware.as_str()), ("KW08M", "0x9"));
    assert_eq!(id.zones.unwrap().words(), "4 zones of 512 KiB, host-managed, 3 open at most");
}

#[test]
fn a_partition_knows_its_drive() {
    let (_dir, sysfs) = copy();
    let part = sysfs.by_number((259, 1)).unwrap();
    assert_eq!((part.name.as_str(), part.disk().name.as_str()), ("nvme0n1p1", "nvme0n1"));
    assert_eq!(part.word_to_type(), "KW 0417");
    assert_eq!(part.identity().block.get(), 512, "the queue is the drive's");
    assert!(sysfs.by_number((9, 9)).is_none());
}

#[test]
fn what_is_no_device_is_said_in_words() {
    let sysfs = Sysfs::default();
    assert!(sysfs.by_path(Path::new("/dev/no-such")).unwrap_err().contains("does not exist"));
    assert!(sysfs.by_path(Path::new("/dev/null")).unwrap_err().contains("no block device"));
}
