//! Damage to run lists, and files that share clusters.

use super::{Fault, OTHER, PACKED, PIECES, Patient, ROW, SPREAD, WIDE, fault, files::Records};
use crate::seed::Seed;
use easy_ext::ext;
use punchdog_core::{
    arith::Peek,
    ntfs::{
        geometry::Geometry,
        layout::{kind, own},
        record::attributes,
        runs::{Run, encode},
    },
};

/// What the other file had is nobody's afterwards.
const FREE: &[(&str, &str)] = &[("unowned-clusters", "free")];

const fn ended(name: &'static str, on: fn(&Geometry) -> bool, make: fn(&mut Patient, &mut Seed)) -> Fault {
    Fault { name, code: "ntfs/run-list", on, make, choose: FREE }
}

pub(super) const ALL: &[Fault] = &[
    fault("a run list's first byte cannot be", "ntfs/run-list", |p, _| {
        p.edit_list(ROW, |list| list[0] = 0xFF);
    }),
    fault("a run list ends before it begins", "ntfs/run-count", |p, _| {
        p.edit_list(OTHER, |list| list[0] = 0);
    }),
    Fault {
        name: "a run leads outside the volume",
        code: "ntfs/run-beyond",
        // With clusters as large, one byte of distance ends within it.
        on: |geometry| geometry.cluster() < 65536,
        make: |p, _| {
            p.edit_list(ROW, |list| {
                let last = usize::from(list[0] & 15) + usize::from(list[0] >> 4);
                list[last] = 0x7F;
            });
        },
        choose: &[],
    },
    fault("a run leads before the volume", "ntfs/run-beyond", |p, _| {
        p.edit_list(OTHER, |list| {
            let last = usize::from(list[0] & 15) + usize::from(list[0] >> 4);
            list[last] = 0x80;
        });
    }),
    fault("a run of no clusters", "ntfs/run-list", |p, _| {
        p.edit_list(ROW, |list| list[1] = 0);
    }),
    fault("a run is longer than it is", "ntfs/run-count", |p, _| {
        p.edit_list(ROW, |list| list[1] += 1);
    }),
    fault("a run of several is shorter than it is", "ntfs/run-count", |p, _| {
        p.edit_list(PIECES, |list| {
            let second = 1 + usize::from(list[0] & 15) + usize::from(list[0] >> 4);
            list[second + 1] -= 1;
        });
    }),
    fault("the second run of several cannot be", "ntfs/run-list", |p, _| {
        p.edit_list(PIECES, |list| {
            let second = 1 + usize::from(list[0] & 15) + usize::from(list[0] >> 4);
            list[second] = 0x9D;
        });
    }),
    fault("a run of a list in another record cannot be", "ntfs/run-list", |p, _| {
        let number = p.number(WIDE) + 2;
        p.edit_list_of(number, |list| list[0] = 0xEE);
    }),
    ended(
        "a run list cannot be read at all",
        |_| true,
        |p, _| {
            p.edit_list(OTHER, |list| list.fill(0xFE));
            p.costs.push(OTHER.to_owned());
        },
    ),
    ended(
        "the end of a run list cannot be read",
        |_| true,
        |p, _| {
            p.edit_list(PIECES, |list| {
                let second = 1 + usize::from(list[0] & 15) + usize::from(list[0] >> 4);
                list[second..].fill(0xFE);
            });
            p.costs.push(PIECES.to_owned());
        },
    ),
    ended(
        "the end of a packed file's run list cannot be read",
        |geometry| geometry.cluster() <= 4096,
        |p, _| {
            p.edit_list(PACKED, |list| {
                let second = 1 + usize::from(list[0] & 15) + usize::from(list[0] >> 4);
                list[second..].fill(0xFE);
            });
            p.costs.push(PACKED.to_owned());
        },
    ),
    ended(
        "a run list in the third of four records cannot be read",
        |_| true,
        |p, _| {
            let number = p.number(WIDE) + 2;
            p.edit_list_of(number, |list| list.fill(0xFE));
            p.costs.push(WIDE.to_owned());
        },
    ),
    ended(
        "the first run list of a file of several records cannot be read",
        |_| true,
        |p, _| {
            p.edit_list(SPREAD, |list| list.fill(0xFE));
            p.costs.push(SPREAD.to_owned());
        },
    ),
    fault("a run leads into another file", "ntfs/clusters-shared", |p, _| {
        let (own, other) = (p.first_run(ROW), p.first_run(OTHER));
        let bytes = encode(&[Run::new(other.first.expect("no hole") + 1, own.length)]);
        p.edit_list(ROW, |list| list[..bytes.len()].copy_from_slice(&bytes));
        p.at_run(Run::new(other.first.expect("no hole"), other.length));
    }),
    led("the bitmap of $MFT leads into a file", |p, _| lead(p, own::MFT, kind::BITMAP, "")),
    // A log that holds nothing is found by that.
    led("$LogFile leads into a file", |p, _| lead(p, own::LOG, kind::DATA, "")),
    led("$AttrDef leads into a file", |p, _| lead(p, own::ATTRDEF, kind::DATA, "")),
    led("$Bitmap leads into a file", |p, _| lead(p, own::BITMAP, kind::DATA, "")),
    led("$Boot leads into a file", |p, _| lead(p, own::BOOT, kind::DATA, "")),
    led("the descriptors lead into a file", |p, _| lead(p, own::SECURE, kind::DATA, "$SDS")),
    led("$UpCase leads into a file", |p, _| lead(p, own::UPCASE, kind::DATA, "")),
    Fault {
        name: "two files share clusters",
        code: "ntfs/clusters-shared",
        on: |_| true,
        make: share,
        choose: FREE,
    },
    Fault {
        name: "two files share clusters, one is cut",
        code: "ntfs/clusters-shared",
        on: |_| true,
        make: share,
        choose: &[("cross-link", "cut"), ("unowned-clusters", "free")],
    },
    Fault {
        name: "a file of several records shares clusters",
        code: "ntfs/clusters-shared",
        on: |_| true,
        make: share_in_another_record,
        choose: FREE,
    },
    Fault {
        name: "a file of several records shares clusters, and is cut",
        code: "ntfs/clusters-shared",
        on: |_| true,
        make: share_in_another_record,
        choose: &[("cross-link", "cut"), ("unowned-clusters", "free")],
    },
];

const fn led(name: &'static str, make: fn(&mut Patient, &mut Seed)) -> Fault {
    Fault { name, code: "ntfs/clusters-shared", on: |_| true, make, choose: &[] }
}

/// One of the file system's own files leads to where another file is, and its copy as well: more than one byte of its run
/// list is another.
fn lead(p: &mut Patient, number: u32, of: u32, name: &str) {
    let length = p.runs(number, of, name).iter().map(|run| run.length).sum::<u64>();
    let first = p.first_run(ROW).first.expect("no hole").min(p.geometry.clusters() - length);
    let at = p.attribute(number, of, name);
    let bytes = encode(&[Run::new(first, length)]);
    p.edit_both(number, |record| {
        let list = at + usize::from(record.le16(at + 32));
        record[list..list + bytes.len()].copy_from_slice(&bytes);
    });
    p.at_run(Run::new(first, length));
}

fn share_in_another_record(p: &mut Patient, _: &mut Seed) {
    let other = p.first_run(OTHER);
    let number = p.number(SPREAD) + 1;
    let own = p.runs(number, kind::DATA, "");
    let mut runs = vec![Run::new(other.first.expect("no hole"), 2)];
    runs.extend(&own[2..]);
    p.edit_list_of(number, |list| {
        let bytes = encode(&runs);
        list[..bytes.len()].copy_from_slice(&bytes);
    });
    p.at_run(other);
    p.costs.push(SPREAD.to_owned());
}

/// The second half of a file in pieces leads into another one.
fn share(p: &mut Patient, _: &mut Seed) {
    let other = p.first_run(OTHER);
    let own = p.runs(p.number(PIECES), kind::DATA, "");
    let mut runs = own.clone();
    runs.truncate(2);
    let kept: u64 = runs.iter().map(|run| run.length).sum();
    let all: u64 = own.iter().map(|run| run.length).sum();
    runs.push(Run::new(other.first.expect("no hole") + 1, all - kept));
    p.edit_list(PIECES, |list| {
        let bytes = encode(&runs);
        list[..bytes.len()].copy_from_slice(&bytes);
    });
    p.at_run(other);
    p.costs.push(PIECES.to_owned());
}

#[ext(Runs)]
pub(super) impl Patient {
    /// Changes the run list of a file's content.
    fn edit_list(&mut self, path: &str, change: impl FnOnce(&mut [u8])) {
        self.edit_list_of(self.number(path), change);
        self.at_record(path);
    }

    fn edit_list_of(&mut self, number: u32, change: impl FnOnce(&mut [u8])) {
        let record = self.record(number);
        let (found, _) = attributes(&record);
        let data = found.iter().find(|a| a.kind() == kind::DATA).expect("content");
        let at = data.at + usize::from(record.le16(data.at + 32));
        let end = data.at + data.bytes.len();
        self.edit(number, |record| change(&mut record[at..end]));
        let place = self.record_place(number);
        self.damaged.push(punchdog_core::medium::Extent::new(place, self.geometry.record() as u64));
    }

    fn first_run(&self, path: &str) -> Run {
        self.runs(self.number(path), kind::DATA, "")[0]
    }

    /// Says that findings on these clusters are findings on the damage.
    fn at_run(&mut self, run: Run) {
        self.at_cluster(run.first.expect("no hole"), run.length);
    }
}
