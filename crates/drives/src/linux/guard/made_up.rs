//! Machines made up for tests: a folder with `sys`, `proc` and `dev`, as the kernel would show them. Nodes are plain files, so
//! that their content can be read.

use std::os::unix::fs::{FileExt, symlink};
use std::path::{Path, PathBuf};

use super::super::sysfs::{BlockDevice, Number, Sysfs};
use super::{Examination, Users};

pub(in super::super) struct Machine {
    pub dir: tempfile::TempDir,
    pub sysfs: Sysfs,
    swaps: String,
    mounts: String,
}

impl Machine {
    pub fn new() -> Self {
        let dir = tempfile::tempdir().unwrap();
        let sysfs = Sysfs::at(dir.path());
        let machine =
            Self { dir, sysfs, swaps: "Filename Type Size Used Priority\n".into(), mounts: String::new() };
        for folder in ["sys/dev/block", "sys/block", "proc/self", "dev"] {
            std::fs::create_dir_all(machine.path(folder)).unwrap();
        }
        machine
    }

    pub fn path(&self, path: &str) -> PathBuf {
        self.dir.path().join(path)
    }

    fn put(&self, path: &str, content: &str) {
        let path = self.path(path);
        std::fs::create_dir_all(path.parent().unwrap()).unwrap();
        std::fs::write(path, content).unwrap();
    }

    fn node(&self, name: &str, size: u64) {
        std::fs::File::create(self.path(&format!("dev/{name}"))).unwrap().set_len(size).unwrap();
    }

    pub fn disk(&self, name: &str, number: Number, size: u64) {
        let folder = format!("sys/devices/virtual/block/{name}");
        self.put(&format!("{folder}/dev"), &format!("{}:{}\n", number.0, number.1));
        self.put(&format!("{folder}/size"), &format!("{}\n", size / 512));
        self.put(&format!("{folder}/ro"), "0\n");
        self.put(&format!("{folder}/serial"), &format!("KW-{name}\n"));
        self.link(&folder, name, number);
        self.node(name, size);
    }

    fn link(&self, folder: &str, name: &str, number: Number) {
        let to = self.path(folder);
        symlink(&to, self.path(&format!("sys/dev/block/{}:{}", number.0, number.1))).unwrap();
        symlink(&to, self.path(&format!("sys/block/{name}"))).unwrap();
    }

    pub fn part(&self, disk: &str, name: &str, number: Number, start: u64, size: u64) {
        let folder = format!("sys/devices/virtual/block/{disk}/{name}");
        self.put(&format!("{folder}/dev"), &format!("{}:{}\n", number.0, number.1));
        self.put(&format!("{folder}/partition"), "1\n");
        self.put(&format!("{folder}/start"), &format!("{}\n", start / 512));
        self.put(&format!("{folder}/size"), &format!("{}\n", size / 512));
        self.put(&format!("{folder}/ro"), "0\n");
        self.link(&folder, name, number);
        self.node(name, size);
    }

    /// Puts a loop device over a file or a node.
    pub fn loop_over(&self, name: &str, number: Number, over: &Path, offset: u64, size: u64) {
        self.disk(name, number, size);
        let folder = format!("sys/devices/virtual/block/{name}/loop");
        self.put(&format!("{folder}/backing_file"), &format!("{}\n", over.display()));
        self.put(&format!("{folder}/offset"), &format!("{offset}\n"));
    }

    /// Builds one device of others.
    pub fn build(&self, name: &str, number: Number, size: u64, of: &[&str]) {
        self.disk(name, number, size);
        for lower in of {
            let folder = std::fs::canonicalize(self.path(&format!("sys/block/{lower}"))).unwrap();
            let slaves = self.path(&format!("sys/devices/virtual/block/{name}/slaves"));
            std::fs::create_dir_all(&slaves).unwrap();
            symlink(&folder, slaves.join(lower)).unwrap();
            std::fs::create_dir_all(folder.join("holders")).unwrap();
            let upper = self.path(&format!("sys/devices/virtual/block/{name}"));
            symlink(upper, folder.join("holders").join(name)).unwrap();
        }
    }

    pub fn mount(&mut self, name: &str, point: &str) {
        let n = self.device(name).number;
        self.mounts += &format!("9 1 {}:{} / {point} rw - ext4 /dev/{name} rw\n", n.0, n.1);
        self.put("proc/self/mountinfo", &self.mounts);
    }

    pub fn swap(&mut self, path: &str) {
        self.swaps += &format!("{path} partition 100 0 -2\n");
        self.put("proc/swaps", &self.swaps);
    }

    /// A process that has something open.
    pub fn process(&self, number: u32, name: &str, open: &Path, writes: bool) {
        let folder = format!("proc/{number}");
        self.put(&format!("{folder}/comm"), name);
        self.put(
            &format!("{folder}/fdinfo/3"),
            &format!("pos:\t0\nflags:\t0{}00000{}\n", 1, if writes { 2 } else { 0 }),
        );
        std::fs::create_dir_all(self.path(&format!("{folder}/fd"))).unwrap();
        symlink(open, self.path(&format!("{folder}/fd/3"))).unwrap();
    }

    pub fn write(&self, name: &str, at: u64, bytes: &[u8]) {
        let file = std::fs::File::options().write(true).open(self.path(&format!("dev/{name}"))).unwrap();
        file.write_all_at(bytes, at).unwrap();
    }

    pub fn set(&self, name: &str, value: &str, to: &str) {
        let folder = std::fs::canonicalize(self.path(&format!("sys/block/{name}"))).unwrap();
        std::fs::write(folder.join(value), to).unwrap();
    }

    pub fn export(&self, path: &str) {
        self.put("sys/kernel/config/nvmet/subsystems/bay/namespaces/1/device_path", path);
    }

    pub fn device(&self, name: &str) -> BlockDevice {
        self.sysfs.all().into_iter().find(|d| d.name == name).unwrap()
    }

    pub fn examine(&self, name: &str, protect: &[PathBuf]) -> Examination {
        Examination::of(&self.sysfs, &Users::now(&self.sysfs), &self.device(name), protect)
    }
}
