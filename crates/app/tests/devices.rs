//! Real block devices: loop devices over files, where this machine gives them. What needs drives of other kinds is
//! tested in the lab (`scripts/lab`).

mod common;

use std::process::Command;

use common::{Bench, Loop};
use serde_json::Value;

const WRITE: &str = "name = \"w\"\n[[leg]]\nkind = \"write\"\nblock = \"256 KiB\"\ndepth = 8\nstamped = true\n\
                     until = { bytes = \"100 %\" }\n";

#[allow(clippy::unwrap_used)]
fn route(bench: &Bench, text: &str) -> String {
    let path = bench.path("route.toml");
    std::fs::write(&path, text).unwrap();
    path
}

#[test]
fn a_device_is_written_only_with_its_word_and_with_what_it_holds_given_up() {
    let bench = Bench::new();
    let Some(device) = Loop::new(&bench, 32 << 20) else { return };
    let w = route(&bench, WRITE);
    let refused = bench.refusal(&["haul", &w, "--on", &device.node], 3);
    assert!(refused.contains(&format!("--erase \"{}\"", device.name())), "{refused}");
    let status = Command::new("mke2fs").args(["-q", "-t", "ext4", "-L", "soundings", &device.node]).status();
    assert!(status.unwrap().success());
    let before = std::fs::read(&device.backing).unwrap();
    let refused = bench.refusal(&["haul", &w, "--on", &device.node, "--erase", device.name()], 3);
    assert!(refused.contains("--give-up ext4") && refused.contains("label \"soundings\""), "{refused}");
    let wrong = ["haul", &w, "--on", &device.node, "--erase", "loop999", "--give-up", "ext4"];
    assert!(bench.refusal(&wrong, 3).contains("\"loop999\" was typed"));
    assert_eq!(std::fs::read(&device.backing).unwrap(), before, "nothing was written by what was refused");

    let read = route(&bench, &WRITE.replace("\"write\"", "\"read\"").replace("stamped = true\n", ""));
    let haul = bench.json(&["haul", &read, "--on", &device.node, "--json"]);
    assert_eq!(haul["read_bytes"], 32 << 20);
    assert_eq!(std::fs::read(&device.backing).unwrap(), before, "a read changes nothing");

    let w = route(&bench, WRITE);
    let agreed = ["haul", &w, "--on", &device.node, "--erase", device.name(), "--give-up", "ext4", "--json"];
    let haul = bench.json(&agreed);
    assert_eq!((&haul["state"], &haul["written_bytes"]), (&Value::from("done"), &Value::from(32 << 20)));
    let data = std::fs::read(&device.backing).unwrap();
    for (i, block) in data.chunks(4096).enumerate() {
        assert_eq!(&block[..4], b"HMs1", "block {i} carries no stamp");
        assert_eq!(block[24..32], (i as u64 * 4096).to_le_bytes(), "block {i} says another address");
    }
}

#[test]
fn a_wipe_is_confirmed_and_a_region_is_kept_to() {
    let bench = Bench::new();
    let Some(device) = Loop::new(&bench, 64 << 20) else { return };
    let text = "name = \"x\"\n[[leg]]\nkind = \"write\"\nuntil = { bytes = \"100 %\" }\n[[leg]]\nkind = \"wipe\"\n\
                region = { from = \"16 MiB\", to = \"32 MiB\" }\n";
    let r = route(&bench, text);
    let haul = bench.json(&["haul", &r, "--on", &device.node, "--erase", device.name(), "--json"]);
    let twice = ["haul", &r, "--on", &device.node, "--erase", device.name(), "--repeat", "3"];
    let out = bench.command(&twice).output().unwrap();
    assert!(out.status.success(), "a repeat finds the device free: {}", String::from_utf8_lossy(&out.stderr));
    assert_eq!(haul["remarks"][0], "16.78 MB discarded; 512 of 512 places read back hold no data");
    let data = std::fs::read(&device.backing).unwrap();
    let empty = |from: usize, to: usize| data[from << 20..to << 20].iter().all(|b| *b == 0);
    assert!(empty(16, 32) && !empty(15, 16) && !empty(32, 33));
}

#[test]
fn the_yard_tells_of_devices_and_a_second_writer_stands_back() {
    let bench = Bench::new();
    let Some(device) = Loop::new(&bench, 16 << 20) else { return };
    let yard = bench.json(&["yard", "--json"]);
    let row = yard.as_array().unwrap().iter().find(|r| r["drive"] == device.node.as_str()).unwrap();
    assert_eq!((&row["kind"], &row["capacity_bytes"]), (&Value::from("device"), &Value::from(16 << 20)));
    assert_eq!(row["safe_to_write"], true);
    let vitals = bench.json(&["vitals", &device.node, "--json"]);
    assert!(vitals["gaps"][0].as_str().unwrap().contains("no health of its own"));

    let long = route(&bench, &WRITE.replace("bytes = \"100 %\"", "duration = \"4 s\""));
    let agreed = ["haul", &long, "--on", &device.node, "--erase", device.name(), "--json"];
    let mut first = bench.command(&agreed).stdout(std::process::Stdio::null()).spawn().unwrap();
    std::thread::sleep(std::time::Duration::from_secs(2));
    let refused = bench.refusal(&agreed, 3);
    assert!(refused.contains("(hollow-mile) has it open for writing"), "{refused}");
    assert!(first.wait().unwrap().success());
}

#[test]
fn a_thermometer_of_the_users_is_recorded_and_a_bad_one_is_named() {
    let bench = Bench::new();
    std::fs::write(bench.path("air"), "21.5\n").unwrap();
    let text = "name = \"t\"\n[[leg]]\nkind = \"rest\"\nuntil = { duration = \"2 s\" }\n";
    let r = route(&bench, text);
    let (file, air) = (format!("file:{}", bench.path("f")), format!("air={}", bench.path("air")));
    let args = ["haul", &r, "--on", &file, "--size", "1MiB", "--thermometer", &air, "--json"];
    let haul = bench.json(&args);
    assert_eq!(haul["temperatures"][0], serde_json::json!(["air", 21.5]));
    let none = format!("air={}", bench.path("none"));
    let args = ["haul", &r, "--on", &file, "--size", "1MiB", "--thermometer", &none];
    assert!(bench.refusal(&args, 2).contains("thermometer air"));
}

#[test]
fn meters_beside_a_drive_tell_what_it_draws() {
    let bench = Bench::new();
    for (file, text) in [("rail", "4500 mW\n"), ("volts", "5.0\n"), ("amps", "0.1\n")] {
        std::fs::write(bench.path(file), text).unwrap();
    }
    let text = "name = \"t\"\n[[leg]]\nkind = \"rest\"\nuntil = { duration = \"9 s\" }\n\
                [[leg]]\nkind = \"write\"\nuntil = { duration = \"4 s\" }\n";
    let r = route(&bench, text);
    let file = format!("file:{}", bench.path("f"));
    let meter = |name: &str, path: &str| format!("{name}={}", bench.path(path));
    let (rail, volts, amps) = (meter("riser", "rail"), meter("5 V", "volts"), meter("5 V", "amps"));
    let args = ["haul", &r, "--on", &file, "--size", "16MiB", "--json"];
    let all = ["--meter", &rail, "--meter", &volts, "--meter", &amps];
    let units = ["--unit", "W", "--unit", "V", "--unit", "A"];
    let haul = bench.json(&[&args[..], &all, &units].concat());
    for watts in ["load_w", "rest_w"] {
        let watts = haul["power"][watts]["value"].as_f64().unwrap();
        assert!((watts - 5.0).abs() < 1e-9, "{haul}");
    }
    assert_eq!(haul["meters"].as_array().unwrap().len(), 3);
    let legs = haul["power"]["legs"].as_array().unwrap();
    assert_eq!((legs.len(), &legs[0]["leg"]), (1, &serde_json::json!(1)));
    let rows = bench.run(&["export", haul["haul"].as_str().unwrap(), "--of", "meters"]).stdout;
    let rows = String::from_utf8(rows).unwrap();
    assert!(rows.starts_with("elapsed_s,meter,unit,value\n") && rows.contains(",riser,W,4.5\n"), "{rows}");
    let one = ["--meter", &rail];
    for (meters, told) in [
        (one.to_vec(), "--unit W"),
        ([&all[..], &units[..4]].concat(), "--unit is given 2 times for 3 meters"),
        (vec!["--meter", "a=hwmon:nothing/power1"], "there is no sensor chip nothing"),
        ([&one[..], &["--unit", "kWh"]].concat(), "give °C (or C), W"),
    ] {
        let refused = bench.refusal(&[&args[..], &meters].concat(), 2);
        assert!(refused.contains(told), "{refused}");
    }
}

#[test]
fn a_simulated_drive_with_a_meter_draws_what_its_file_says() {
    let bench = Bench::new();
    let text = "name = \"t\"\n[[leg]]\nkind = \"read\"\nuntil = { duration = \"5 min\" }\n\
                [[leg]]\nkind = \"rest\"\nuntil = { duration = \"1 min\" }\n";
    let r = route(&bench, text);
    let haul = bench.json(&["haul", &r, "--on", "sim:skerry-4t", "--json"]);
    let power = &haul["power"];
    assert!((power["rest_w"]["value"].as_f64().unwrap() - 3.6).abs() < 1e-9, "{power}");
    // 3.6 W and 9 W for each GB/s.
    let rate = haul["figures"]["mean_mb_s"].as_f64().unwrap() / 1e3;
    let load = power["load_w"]["value"].as_f64().unwrap();
    assert!((load - (3.6 + 9.0 * rate)).abs() < 0.02 * load, "{load} W at {rate} GB/s");
    let energy = power["joules_per_gb"]["value"].as_f64().unwrap();
    assert!((energy - load / rate).abs() < 0.02 * energy, "{energy} J/GB");
    assert!(power["load_w"]["low"].as_f64().unwrap() < load);
}
