//! Getting a kernel, its modules, busybox and qemu through apt, and packing a small initial root.

use anyhow::{Context, ensure};
use std::{
    path::{Path, PathBuf},
    process::{Command, Stdio},
};

/// The package that always depends on the newest 6.12 kernel of the release.
const META: &str = "linux-image-6.12-amd64";
const MODULES: [&str; 14] = [
    "drivers/block/virtio_blk",
    "drivers/block/loop",
    "fs/netfs/netfs",
    "net/9p/9pnet",
    "net/9p/9pnet_virtio",
    "fs/9p/9p",
    "fs/nls/nls_cp437",
    "fs/nls/nls_ascii",
    "fs/nls/nls_iso8859-1",
    "fs/nls/nls_utf8",
    "fs/fat/fat",
    "fs/fat/vfat",
    "fs/exfat/exfat",
    "fs/ntfs3/ntfs3",
];
const INIT: &str = "#!/bin/busybox sh
/bin/busybox --install -s /bin
mount -t proc proc /proc; mount -t sysfs sys /sys; mount -t devtmpfs dev /dev; mount -t tmpfs -o size=700m tmp /tmp
for m in MODULES; do [ -e /mod/$m.ko ] && insmod /mod/$m.ko; done
mount -t 9p -o trans=virtio,version=9p2000.L,msize=262144 host /host
sh /host/guest.sh > /host/out.txt 2>&1
sync; poweroff -f
";

/// What it takes to start a guest.
pub(crate) struct Machine {
    /// The kernel package's name.
    pub(crate) kernel: String,
    /// The kernel image.
    pub(crate) vmlinuz: PathBuf,
    /// The initial root.
    pub(crate) initrd: PathBuf,
}

fn has(program: &str) -> bool {
    let found =
        Command::new("sh").args(["-c", &format!("command -v {program}")]).stdout(Stdio::null()).status();
    found.is_ok_and(|status| status.success())
}

fn run(command: &mut Command) -> anyhow::Result<String> {
    let done = command.stdin(Stdio::null()).output().with_context(|| format!("{command:?}"))?;
    ensure!(done.status.success(), "{command:?}: {}", String::from_utf8_lossy(&done.stderr));
    Ok(String::from_utf8_lossy(&done.stdout).into_owned())
}

/// The machine, made when it is not there yet; none where there is no apt.
pub(crate) fn machine() -> anyhow::Result<Option<Machine>> {
    if !has("apt-get") {
        return Ok(None);
    }
    let cache = crate::root().join("target/kernel-lane");
    std::fs::create_dir_all(&cache)?;
    let (vmlinuz, initrd, name) =
        (cache.join("vmlinuz"), cache.join(format!("initrd-{}", MODULES.len())), cache.join("name"));
    let tools =
        [("qemu-system-x86_64", "qemu-system-x86"), ("busybox", "busybox-static"), ("xz", "xz-utils")];
    let missing: Vec<&str> =
        tools.iter().filter(|(program, _)| !has(program)).map(|(_, package)| *package).collect();
    if !missing.is_empty() || !initrd.exists() {
        run(Command::new("apt-get").args(["update", "-q"]))?;
    }
    if !missing.is_empty() {
        let mut install = Command::new("apt-get");
        install.args(["install", "-y", "-q", "--no-install-recommends"]).args(&missing);
        run(install.env("DEBIAN_FRONTEND", "noninteractive"))?;
    }
    if !initrd.exists() || !vmlinuz.exists() {
        let depends = run(Command::new("apt-cache").args(["depends", META]))?;
        let package = depends
            .lines()
            .find_map(|line| {
                line.trim().strip_prefix("Depends: ").filter(|name| name.starts_with("linux-image-"))
            })
            .context("the kernel's meta package names no kernel")?
            .to_owned();
        fetch(&package, &vmlinuz, &initrd)?;
        std::fs::write(&name, &package)?;
    }
    Ok(Some(Machine { kernel: std::fs::read_to_string(name)?, vmlinuz, initrd }))
}

fn fetch(package: &str, vmlinuz: &Path, initrd: &Path) -> anyhow::Result<()> {
    let work = tempfile::tempdir()?;
    run(Command::new("apt-get").args(["download", "-q", package]).current_dir(work.path()))?;
    let deb = first(work.path(), ".deb")?;
    let tree = work.path().join("x");
    run(Command::new("dpkg-deb").arg("-x").arg(&deb).arg(&tree))?;
    std::fs::copy(first(&tree.join("boot"), "vmlinuz")?, vmlinuz)?;
    let release = first(&tree.join("lib/modules"), "")?;
    let mut root = Cpio::default();
    for folder in ["bin", "proc", "sys", "dev", "mnt", "host", "mod", "tmp"] {
        root.add(folder, 0o040_755, &[]);
    }
    let busybox = run(Command::new("sh").args(["-c", "command -v busybox"]))?;
    root.add("bin/busybox", 0o100_755, &std::fs::read(busybox.trim())?);
    let mut names = Vec::new();
    for module in MODULES {
        let name = module.rsplit('/').next().unwrap_or(module);
        let plain = release.join(format!("kernel/{module}.ko"));
        let packed = release.join(format!("kernel/{module}.ko.xz"));
        let bytes = if packed.exists() {
            Command::new("xz").arg("-dc").arg(&packed).output()?.stdout
        } else if plain.exists() {
            std::fs::read(plain)?
        } else {
            // Built into the kernel.
            continue;
        };
        root.add(&format!("mod/{name}.ko"), 0o100_644, &bytes);
        names.push(name);
    }
    root.add("init", 0o100_755, INIT.replace("MODULES", &names.join(" ")).as_bytes());
    std::fs::write(initrd, root.finish())?;
    Ok(())
}

/// The first entry of a folder whose name contains `part`.
fn first(folder: &Path, part: &str) -> anyhow::Result<PathBuf> {
    for entry in std::fs::read_dir(folder)? {
        let path = entry?.path();
        if path.file_name().is_some_and(|name| name.to_string_lossy().contains(part)) {
            return Ok(path);
        }
    }
    anyhow::bail!("{} holds no {part}", folder.display())
}

/// An archive in the "newc" form that the kernel unpacks (Linux,
/// Documentation/driver-api/early-userspace/buffer-format.rst).
#[derive(Default)]
struct Cpio {
    bytes: Vec<u8>,
    count: u32,
}

impl Cpio {
    fn add(&mut self, name: &str, mode: u32, content: &[u8]) {
        self.count += 1;
        let fields = [self.count, mode, 0, 0, 1, 0, u32::try_from(content.len()).unwrap_or(0), 0, 0, 0, 0];
        self.bytes.extend(b"070701");
        for field in fields {
            self.bytes.extend(format!("{field:08X}").bytes());
        }
        self.bytes.extend(format!("{:08X}{:08X}", name.len() + 1, 0).bytes());
        self.bytes.extend(name.bytes());
        self.bytes.push(0);
        self.pad();
        self.bytes.extend(content);
        self.pad();
    }
    fn pad(&mut self) {
        while !self.bytes.len().is_multiple_of(4) {
            self.bytes.push(0);
        }
    }
    fn finish(mut self) -> Vec<u8> {
        self.add("TRAILER!!!", 0, &[]);
        self.bytes
    }
}
