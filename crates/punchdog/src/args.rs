//! Every argument and its help, once: completions and the manual page are made from here too.

use clap::{Args as Group, CommandFactory, Parser, Subcommand, ValueEnum};
use punchdog_core::{diagnosis::Wish, surface::filler::Pattern};
use std::path::{Path, PathBuf};
use tracing_subscriber::EnvFilter;

/// Finds out why a volume image does not mount, and mends a copy of it.
///
/// The image is only ever read. Begin with `punchdog check IMAGE`; each command says what comes next.
/// Exit status: 0 done and nothing wrong; 1 the answer is "not sound"; 2 the work could not be done.
#[derive(Debug, Parser)]
#[command(
    name = "punchdog",
    version,
    max_term_width = 100,
    subcommand_required = true,
    arg_required_else_help = true
)]
pub(crate) struct Args {
    /// What to do.
    #[command(subcommand)]
    pub(crate) command: Command,
    /// Print one JSON document instead of text.
    #[arg(long, global = true)]
    pub(crate) json: bool,
    /// Colours: on a terminal only, always, or never. NO_COLOR turns them off as well.
    #[arg(long, global = true, value_enum, default_value_t, value_name = "WHEN")]
    pub(crate) color: Color,
    /// Say on standard error what is being read; twice for more. RUST_LOG gives finer control.
    #[arg(short, long, global = true, action = clap::ArgAction::Count)]
    pub(crate) verbose: u8,
}

/// When to use colours.
#[derive(Debug, Clone, Copy, Default, PartialEq, Eq, ValueEnum)]
pub(crate) enum Color {
    /// On a terminal, unless NO_COLOR is set.
    #[default]
    Auto,
    /// Always.
    Always,
    /// Never.
    Never,
}

#[derive(Debug, Subcommand)]
pub(crate) enum Command {
    /// What the image holds: partition tables, volumes, lost volumes, strangers.
    Scout(Scout),
    /// Structural faults; reads only.
    Check(Check),
    /// Why it does not mount, host by host; what is intact; what to do next.
    Explain(Explain),
    /// Boot structures field by field: as they stand, in the second copy, computed, believed.
    Fields(Fields),
    /// The files as they can be reached now, each with its state.
    Files(Files),
    /// Copy files out, before any repair.
    Salvage(Salvage),
    /// Search for files that no folder names: deleted, formatted over, by their content.
    Unearth(Unearth),
    /// Read a device or an image from end to end: which places cannot be read, and an image of the rest.
    Surface(Surface),
    /// A picture of the medium: what lies where, how full it is, what is in trouble.
    Map(Map),
    /// The repair, step by step, with what it does to the files.
    Plan(Plan),
    /// Carry a plan out on a new copy of the image.
    Apply(Apply),
    /// Put the old bytes back into a copy made by apply.
    Undo(Undo),
    /// Whether two images, devices or folders hold the same, by files or byte by byte.
    Compare(Compare),
    /// Lay a fresh file system onto a copy, when nothing else is left.
    Format(Format),
    /// A page for the job sheet and the customer: what was wrong, what was done, what was saved.
    Report(Report),
    /// Make up patients, and run a whole job on one of them.
    Demo(Demo),
    /// Print completions for a shell.
    #[command(hide = true)]
    Completions(Completions),
    /// Print the manual page.
    #[command(hide = true)]
    Manual,
}

/// An image, and which volume of it.
#[derive(Debug, Clone, Group)]
pub(crate) struct Target {
    /// The image: a file with the bytes of a volume or of a whole disk.
    pub(crate) image: PathBuf,
    #[command(flatten)]
    pub(crate) which: Which,
}

/// Which volume of an image, and what of it is not to be believed.
#[derive(Debug, Clone, Default, Group)]
pub(crate) struct Which {
    /// The volume begins at this byte of the image.
    #[arg(long, value_name = "BYTES", conflicts_with = "volume")]
    pub(crate) at: Option<u64>,
    /// Take what is at --at for a volume even where it overlaps a whole one.
    #[arg(long, requires = "at")]
    pub(crate) inside: bool,
    /// The volume with this number, as scout prints them.
    #[arg(long, value_name = "N")]
    pub(crate) volume: Option<usize>,
    #[command(flatten)]
    pub(crate) reading: Reading,
}

/// What of an image is not to be believed.
#[derive(Debug, Clone, Default, Group)]
pub(crate) struct Reading {
    /// Bytes that cannot be read, whatever the file has there: a list that surface wrote, or lines of an offset and a
    /// length.
    #[arg(long, value_name = "LIST")]
    pub(crate) unreadable: Option<PathBuf>,
    /// Sectors that hold nothing but this pattern were not read: an imager put it there.
    #[arg(long, value_name = "HEX", value_parser = Pattern::from_hex)]
    pub(crate) filler: Option<Pattern>,
}

impl Which {
    /// One volume is meant, and not all there are.
    pub(crate) fn narrows(&self) -> bool {
        self.at.is_some() || self.volume.is_some()
    }
    /// The same for the core.
    pub(crate) fn wish(&self) -> Wish {
        match (self.at, self.volume) {
            (Some(offset), _) => Wish::At { offset, inside: self.inside },
            (None, Some(number)) => Wish::Number(number),
            (None, None) => Wish::All,
        }
    }
}

impl Check {
    /// What is meant of one of the images.
    pub(crate) fn target(&self, image: &Path) -> Target {
        Target { image: image.to_owned(), which: self.which.clone() }
    }
}

impl Which {
    /// The options once more, for a next command.
    pub(crate) fn again(&self) -> String {
        let at = self.at.map(|at| format!(" --at {at}{}", if self.inside { " --inside" } else { "" }));
        let volume = self.volume.map(|number| format!(" --volume {number}"));
        [at, volume, Some(self.reading.again())].into_iter().flatten().collect()
    }
}

impl Reading {
    /// The options once more, for a next command.
    pub(crate) fn again(&self) -> String {
        let list =
            self.unreadable.as_ref().map(|list| format!(" --unreadable {}", crate::page::quoted(list)));
        let filler = self.filler.as_ref().map(|pattern| format!(" --filler {}", pattern.to_hex()));
        [list, filler].into_iter().flatten().collect()
    }
}

#[derive(Debug, Group)]
pub(crate) struct Scout {
    /// The image; several, and folders of images, are told of in a line each.
    #[arg(required = true, value_name = "IMAGE")]
    pub(crate) images: Vec<PathBuf>,
    #[command(flatten)]
    pub(crate) reading: Reading,
}

#[derive(Debug, Group)]
pub(crate) struct Check {
    /// The image: a file with the bytes of a volume or of a whole disk; several, and folders of images, are told of in a
    /// line each.
    #[arg(required = true, value_name = "IMAGE")]
    pub(crate) images: Vec<PathBuf>,
    #[command(flatten)]
    pub(crate) which: Which,
    /// List every finding, however many are alike.
    #[arg(long)]
    pub(crate) all: bool,
}

#[derive(Debug, Group)]
pub(crate) struct Explain {
    #[command(flatten)]
    pub(crate) target: Target,
    /// Bytes in a logical sector of the device that the volume will be on; if not given, those that the partition table
    /// counts in, else 512.
    #[arg(long, value_name = "BYTES", value_parser = sector)]
    pub(crate) sector: Option<u32>,
}

/// The logical sector sizes that storage has.
fn sector(text: &str) -> Result<u32, String> {
    match text.parse() {
        Ok(bytes @ (512 | 1024 | 2048 | 4096)) => Ok(bytes),
        _ => Err("a sector has 512, 1024, 2048 or 4096 bytes".to_owned()),
    }
}

#[derive(Debug, Group)]
pub(crate) struct Fields {
    #[command(flatten)]
    pub(crate) target: Target,
    /// Which structure: boot or fsinfo; all without.
    pub(crate) which: Option<String>,
}

#[derive(Debug, Group)]
#[expect(clippy::struct_excessive_bools, reason = "each is a switch of its own")]
pub(crate) struct Files {
    #[command(flatten)]
    pub(crate) target: Target,
    /// Read each file and give its SHA-256.
    #[arg(long)]
    pub(crate) hash: bool,
    /// List deleted files too.
    #[arg(long)]
    pub(crate) deleted: bool,
    /// List the file system's own files too.
    #[arg(long)]
    pub(crate) system: bool,
    /// List what unearth found, too.
    #[arg(long, value_name = "FINDS")]
    pub(crate) finds: Option<PathBuf>,
    /// Read each file and say whether its content holds together: whole, broken from which byte, or not judged.
    #[arg(long)]
    pub(crate) content: bool,
    /// Write a page with small pictures of the pictures, for choosing; a new file.
    #[arg(long, value_name = "SHEET.html")]
    pub(crate) sheet: Option<PathBuf>,
}

#[derive(Debug, Group)]
pub(crate) struct Unearth {
    #[command(flatten)]
    pub(crate) target: Target,
    /// Where to write what is found. A search that was stopped goes on from there.
    #[arg(long, value_name = "FINDS")]
    pub(crate) out: PathBuf,
    /// Only files of this kind; may be given several times.
    #[arg(long, value_enum)]
    pub(crate) kind: Vec<KindOfFile>,
    /// Only files whose content begins at this byte of the image or behind it.
    #[arg(long, value_name = "BYTES")]
    pub(crate) from: Option<u64>,
    /// Only files whose content begins before this byte of the image.
    #[arg(long, value_name = "BYTES")]
    pub(crate) to: Option<u64>,
    /// Search again, and overwrite what an earlier search found.
    #[arg(long)]
    pub(crate) replace: bool,
}

#[derive(Debug, Group)]
pub(crate) struct Surface {
    /// What to read: a device, or an image file. It is never written to.
    pub(crate) source: PathBuf,
    /// Where to write the places that cannot be read. A search that was stopped goes on from there; one that is done
    /// tries again what failed.
    #[arg(long, value_name = "LIST")]
    pub(crate) list: PathBuf,
    /// Save what can be read here, with holes for zeros.
    #[arg(long, value_name = "NEW.img")]
    pub(crate) image: Option<PathBuf>,
    /// Put bytes that were left out of an image back into a new one, as check names them; may be given several times.
    #[arg(long, value_name = "FROM:TO:BYTES", value_parser = crate::spaced::gap, requires = "image")]
    pub(crate) left_out: Vec<punchdog_core::medium::Gap>,
    /// Take bytes that an image has too many out of a new one, as check names them; may be given several times.
    #[arg(long, value_name = "FROM:TO:BYTES", value_parser = crate::spaced::gap, requires = "image")]
    pub(crate) inserted: Vec<punchdog_core::medium::Gap>,
    /// List what reads blank at a regular distance as not read, as check names it; may be given several times.
    #[arg(long, value_name = "EVERY:FROM:BYTES", value_parser = crate::intervals::interval,
        conflicts_with_all = ["image", "left_out", "inserted"])]
    pub(crate) blank_intervals: Vec<punchdog_core::medium::Interval>,
    /// The source is one of several disks that share their bytes in stripes, as scout names them: lay the whole out anew.
    #[arg(long, value_name = "CHUNK:DISKS", value_parser = crate::striped::set, requires = "image",
        conflicts_with_all = ["left_out", "inserted", "blank_intervals"])]
    pub(crate) striped: Option<crate::striped::Set>,
    /// An image of the next disk of the set, in order; '-' for one that is missing. What is not given counts as not read.
    #[arg(long, value_name = "IMAGE", requires = "striped")]
    pub(crate) with: Vec<PathBuf>,
    /// How often a sector that failed is tried again.
    #[arg(long, value_name = "N", default_value_t = 1)]
    pub(crate) tries: u32,
}

#[derive(Debug, Group)]
pub(crate) struct Map {
    #[command(flatten)]
    pub(crate) target: Target,
    /// Write a drawing instead, by its ending as SVG or PNG; a new file.
    #[arg(long, value_name = "MAP.svg|MAP.png")]
    pub(crate) out: Option<PathBuf>,
    /// Draw from this byte of the image on.
    #[arg(long, value_name = "BYTES")]
    pub(crate) from: Option<u64>,
    /// Draw up to this byte of the image.
    #[arg(long, value_name = "BYTES")]
    pub(crate) to: Option<u64>,
    /// Show where this file lies.
    #[arg(long, value_name = "PATH")]
    pub(crate) file: Option<String>,
    /// Rows at most.
    #[arg(long, value_name = "N", value_parser = clap::value_parser!(u64).range(1..=400))]
    pub(crate) rows: Option<u64>,
}

#[derive(Debug, Group)]
pub(crate) struct Salvage {
    #[command(flatten)]
    pub(crate) target: Target,
    /// The folder to copy into; made if it is not there. Never on the patient itself.
    #[arg(long, value_name = "DIR", required_unless_present = "list")]
    pub(crate) to: Option<PathBuf>,
    /// Only files whose path matches, such as '*.jpg' or 'DCIM/**'; may be given several times.
    #[arg(long = "match", value_name = "GLOB")]
    pub(crate) matching: Vec<String>,
    /// Only files of this kind, by name or by first bytes; may be given several times.
    #[arg(long, value_enum)]
    pub(crate) kind: Vec<KindOfFile>,
    /// Only files in this state; may be given several times. Without: all but deleted ones.
    #[arg(long, value_enum)]
    pub(crate) state: Vec<StateOfFile>,
    /// What unearth found, too; without --complete, what is complete or likely so.
    #[arg(long, value_name = "FINDS")]
    pub(crate) finds: Option<PathBuf>,
    /// Of what unearth found, only what is so complete; may be given several times.
    #[arg(long, value_enum, requires = "finds")]
    pub(crate) complete: Vec<HowComplete>,
    /// Say of each file whether its content holds together.
    #[arg(long)]
    pub(crate) content: bool,
    /// Show what would be copied; write nothing.
    #[arg(long)]
    pub(crate) list: bool,
}

/// Groups of files that people ask for.
#[derive(Debug, Clone, Copy, PartialEq, Eq, ValueEnum)]
pub(crate) enum KindOfFile {
    Pictures,
    Sound,
    Video,
    Documents,
    Archives,
    Other,
}

/// States of files, as `files` gives them.
#[derive(Debug, Clone, Copy, PartialEq, Eq, ValueEnum)]
pub(crate) enum StateOfFile {
    Intact,
    Damaged,
    Orphan,
    Deleted,
    Older,
    Unnamed,
}

/// Whether all of a file was found, as unearth has it.
#[derive(Debug, Clone, Copy, PartialEq, Eq, ValueEnum)]
pub(crate) enum HowComplete {
    Yes,
    Likely,
    No,
}

#[derive(Debug, Group)]
pub(crate) struct Plan {
    #[command(flatten)]
    pub(crate) target: Target,
    /// Where to write the plan.
    #[arg(long, value_name = "PLAN")]
    pub(crate) out: Option<PathBuf>,
    /// Answer a question of the repair, as NAME=OPTION; may be given several times.
    #[arg(long, value_name = "NAME=OPTION")]
    pub(crate) choose: Vec<String>,
    /// Mend this alone and nothing else; without it, and without --volume or --at, the plan is for the
    /// table and every volume.
    #[arg(long, conflicts_with_all = ["at", "volume"])]
    pub(crate) only: Option<Only>,
    /// Read the files that rest on judgement as they will be, and say whether their content holds together.
    #[arg(long)]
    pub(crate) content: bool,
    /// List every step, however many are alike.
    #[arg(long)]
    pub(crate) all: bool,
    /// Overwrite a plan that is already there.
    #[arg(long)]
    pub(crate) replace: bool,
}

/// Parts of a medium that a plan can be narrowed to.
#[derive(Debug, Clone, Copy, PartialEq, Eq, ValueEnum)]
pub(crate) enum Only {
    /// The partition table.
    Table,
}

#[derive(Debug, Group)]
pub(crate) struct Apply {
    /// The plan, as written by plan.
    pub(crate) plan: PathBuf,
    /// The image the plan was made for; it is not changed.
    #[arg(long)]
    pub(crate) image: PathBuf,
    /// The copy to make; a new file.
    #[arg(long)]
    pub(crate) copy: PathBuf,
    /// Read the files that rest on judgement on the copy, and say whether their content holds together.
    #[arg(long)]
    pub(crate) content: bool,
    #[command(flatten)]
    pub(crate) reading: Reading,
}

#[derive(Debug, Group)]
pub(crate) struct Report {
    #[command(flatten)]
    pub(crate) target: Target,
    /// Where to write the page; the same as JSON is written beside it. New files.
    #[arg(long, value_name = "REPORT.html")]
    pub(crate) out: PathBuf,
    /// The plan that was made for the image.
    #[arg(long)]
    pub(crate) plan: Option<PathBuf>,
    /// The mended copy.
    #[arg(long, requires = "plan")]
    pub(crate) copy: Option<PathBuf>,
    /// The folder that files were copied out into.
    #[arg(long, value_name = "DIR")]
    pub(crate) saved: Option<PathBuf>,
    /// What unearth found.
    #[arg(long, value_name = "FINDS")]
    pub(crate) finds: Option<PathBuf>,
    /// The job, such as its number; stands on top.
    #[arg(long, value_name = "TEXT")]
    pub(crate) job: Option<String>,
    /// A note to stand on top; may be given several times.
    #[arg(long, value_name = "TEXT")]
    pub(crate) note: Vec<String>,
}

#[derive(Debug, Group)]
pub(crate) struct Compare {
    /// An image or a device.
    #[arg(value_name = "A")]
    pub(crate) one: PathBuf,
    /// Another one, or a folder of files.
    #[arg(value_name = "B")]
    pub(crate) other: PathBuf,
    /// Compare byte by byte.
    #[arg(long)]
    pub(crate) bytes: bool,
    /// The volume of A begins at this byte.
    #[arg(long, value_name = "BYTES", conflicts_with = "volume_a")]
    pub(crate) at_a: Option<u64>,
    /// The volume of A with this number, as scout prints them.
    #[arg(long, value_name = "N")]
    pub(crate) volume_a: Option<usize>,
    /// The volume of B begins at this byte.
    #[arg(long, value_name = "BYTES", conflicts_with = "volume_b")]
    pub(crate) at_b: Option<u64>,
    /// The volume of B with this number, as scout prints them.
    #[arg(long, value_name = "N")]
    pub(crate) volume_b: Option<usize>,
}

#[derive(Debug, Group)]
pub(crate) struct Format {
    #[command(flatten)]
    pub(crate) target: Target,
    /// The copy to make; a new file.
    #[arg(long)]
    pub(crate) copy: PathBuf,
    /// The file system.
    #[arg(long = "as", value_enum, value_name = "KIND")]
    pub(crate) file_system: FileSystem,
    /// With a fresh partition table around it; the volume then begins at 1 MiB.
    #[arg(long, value_enum, conflicts_with_all = ["at", "volume"])]
    pub(crate) table: Option<PartitionTable>,
    /// The label.
    #[arg(long, value_name = "TEXT")]
    pub(crate) label: Option<String>,
    /// Bytes in a sector.
    #[arg(long, value_name = "BYTES", default_value_t = 512, value_parser = sector)]
    pub(crate) sector: u32,
    /// Bytes in a cluster; by the published tables without it.
    #[arg(long, value_name = "BYTES")]
    pub(crate) cluster: Option<u32>,
    /// Leave nothing of what the medium held on the copy: all else becomes zeros.
    #[arg(long, conflicts_with_all = ["at", "volume"])]
    pub(crate) wipe: bool,
    /// The folder that the files of this image were copied into.
    #[arg(long, value_name = "DIR")]
    pub(crate) saved: Option<PathBuf>,
    /// No file of the image matters.
    #[arg(long)]
    pub(crate) nothing_to_save: bool,
}

/// File systems that can be laid down.
#[derive(Debug, Clone, Copy, PartialEq, Eq, ValueEnum)]
pub(crate) enum FileSystem {
    Fat12,
    Fat16,
    Fat32,
    Exfat,
    Ntfs,
}

/// Partition tables that can be laid down.
#[derive(Debug, Clone, Copy, PartialEq, Eq, ValueEnum)]
pub(crate) enum PartitionTable {
    Mbr,
    Gpt,
}

#[derive(Debug, Group)]
pub(crate) struct Undo {
    /// A copy made by apply; its journal stands beside it.
    pub(crate) copy: PathBuf,
}

#[derive(Debug, Group)]
pub(crate) struct Demo {
    /// Where to put the patients; a new or empty folder.
    #[arg(default_value = "punchdog-demo")]
    pub(crate) dir: PathBuf,
}

#[derive(Debug, Group)]
pub(crate) struct Completions {
    /// The shell.
    #[arg(value_enum)]
    shell: clap_complete::Shell,
}

impl Completions {
    pub(crate) fn print(&self) -> std::io::Result<()> {
        let mut text = Vec::new();
        clap_complete::generate(self.shell, &mut Args::command(), "punchdog", &mut text);
        put(&text)
    }
}

/// Writes on standard output; whoever reads only the beginning is served too.
fn put(text: &[u8]) -> std::io::Result<()> {
    use std::io::Write;
    let mut out = std::io::stdout().lock();
    match out.write_all(text).and_then(|()| out.flush()) {
        Err(error) if error.kind() == std::io::ErrorKind::BrokenPipe => Ok(()),
        other => other,
    }
}

/// Prints the manual page, all commands in one.
pub(crate) fn manual() -> std::io::Result<()> {
    let mut out = Vec::new();
    let command = Args::command();
    clap_mangen::Man::new(command.clone()).render(&mut out)?;
    for sub in command.get_subcommands().filter(|sub| !sub.is_hide_set()) {
        clap_mangen::Man::new(sub.clone()).title(format!("punchdog-{}", sub.get_name())).render(&mut out)?;
    }
    put(&out)
}

impl Command {
    /// The file that the work is about.
    pub(crate) fn subject(&self) -> Option<&Path> {
        match self {
            Self::Scout(given) => given.images.first().map(PathBuf::as_path),
            Self::Check(given) => given.images.first().map(PathBuf::as_path),
            Self::Explain(given) => Some(&given.target.image),
            Self::Fields(given) => Some(&given.target.image),
            Self::Files(given) => Some(&given.target.image),
            Self::Salvage(given) => Some(&given.target.image),
            Self::Unearth(given) => Some(&given.target.image),
            Self::Map(given) => Some(&given.target.image),
            Self::Surface(given) => Some(&given.source),
            Self::Plan(given) => Some(&given.target.image),
            Self::Apply(given) => Some(&given.copy),
            Self::Compare(given) => Some(&given.one),
            Self::Format(given) => Some(&given.target.image),
            Self::Report(given) => Some(&given.target.image),
            Self::Undo(given) => Some(&given.copy),
            Self::Demo(given) => Some(&given.dir),
            Self::Completions(_) | Self::Manual => None,
        }
    }
}

impl Args {
    /// Settles colour, log and interrupt for the whole run.
    pub(crate) fn start(&self) {
        let choice = match self.color {
            Color::Auto => anstream::ColorChoice::Auto,
            Color::Always => anstream::ColorChoice::Always,
            Color::Never => anstream::ColorChoice::Never,
        };
        choice.write_global();
        let level = match self.verbose {
            0 => "warn",
            1 => "punchdog_core=debug,punchdog=debug,warn",
            _ => "punchdog_core=trace,punchdog=trace,info",
        };
        let filter = EnvFilter::try_from_default_env().unwrap_or_else(|_| EnvFilter::new(level));
        let colored = anstream::AutoStream::choice(&std::io::stderr()) != anstream::ColorChoice::Never;
        tracing_subscriber::fmt()
            .with_env_filter(filter)
            .with_writer(std::io::stderr)
            .with_ansi(colored)
            .without_time()
            .with_target(false)
            .init();
        crate::watch::listen();
    }
}
