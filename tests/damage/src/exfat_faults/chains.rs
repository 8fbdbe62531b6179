//! Damage to first clusters, flags, lengths and chains.

use super::{CROWDED, DOUBLY, FOLDER, Fault, OTHER, PIECES, ROW, SINGLE, fault};
use punchdog_core::medium::Extent;

pub(super) const ALL: &[Fault] = &[
    fault("chain into an empty entry", "exfat/chain-into-free", |p, _| {
        let cluster = p.find(PIECES).clusters[3];
        p.set_link(cluster, 0);
    }),
    fault("chain into a bad cluster", "exfat/chain-into-bad", |p, _| {
        let cluster = p.find(PIECES).clusters[3];
        p.set_link(cluster, 0xFFFF_FFF7);
    }),
    fault("chain out of range", "exfat/chain-out-of-range", |p, _| {
        let cluster = p.find(PIECES).clusters[1];
        p.set_link(cluster, 0x00E5_30E5);
    }),
    fault("chain into the value 1", "exfat/chain-out-of-range", |p, _| {
        let cluster = p.find(PIECES).clusters[1];
        p.set_link(cluster, 1);
    }),
    fault("chain runs into itself", "exfat/chain-loop", |p, _| {
        let clusters = p.find(PIECES).clusters;
        p.set_link(clusters[4], clusters[1]);
    }),
    fault("last cluster leads back", "exfat/chain-loop", |p, _| {
        let clusters = p.find(PIECES).clusters;
        p.set_link(clusters[6], clusters[0]);
    }),
    fault("chain without an end", "exfat/chain-into-free", |p, _| {
        let cluster = *p.find(PIECES).clusters.last().expect("it has clusters");
        p.set_link(cluster, 0);
    }),
    fault("chain ended early", "exfat/chain-too-short", |p, _| {
        let made = p.find(PIECES);
        p.set_link(made.clusters[2], u32::MAX);
        // Its tail has one length that fits: nothing is lost, and nothing is said of the length.
        p.damaged.push(Extent::new(made.entry, u64::from(made.entries) * 32));
        let free = made.clusters[3..].to_vec();
        for cluster in free {
            p.set_link(cluster, 0);
            p.set_bit(cluster, false);
        }
        p.cost(&[PIECES]);
    }),
    fault("chain into another file's", "exfat/cross-linked", |p, _| {
        let (one, other) = (p.find(SINGLE), p.find(PIECES));
        p.set_link(one.clusters[1], other.clusters[2]);
        p.damaged.push(Extent::new(one.entry, u64::from(one.entries) * 32));
        p.damaged.push(Extent::new(other.entry, u64::from(other.entries) * 32));
    }),
    fault("two files name the same clusters", "exfat/cross-linked", |p, _| {
        let (one, other) = (p.find(ROW), p.find(OTHER));
        let first = one.clusters[0].to_le_bytes();
        p.write_set(OTHER, 52, &first);
        p.damaged.push(Extent::new(one.entry, u64::from(one.entries) * 32));
        p.damaged.push(Extent::new(other.entry, u64::from(other.entries) * 32));
    }),
    Fault {
        choose: &[("cross-link", "cut")],
        ..fault("two files name the same clusters, one to be emptied", "exfat/cross-linked", |p, _| {
            let first = p.find(ROW).clusters[0].to_le_bytes();
            p.write_set(OTHER, 52, &first);
            // Its own clusters are free by the bitmap: nothing says where they were.
            for cluster in p.find(OTHER).clusters {
                p.set_bit(cluster, false);
            }
            for path in [ROW, OTHER] {
                let made = p.find(path);
                p.damaged.push(Extent::new(made.entry, u64::from(made.entries) * 32));
            }
            p.cost(&[OTHER, ROW]);
        })
    },
    fault("length larger than the clusters", "exfat/chain-too-short", |p, _| {
        let size = p.find(PIECES).size + 20 * p.geometry.cluster_bytes();
        p.write_set(PIECES, 56, &size.to_le_bytes());
        p.write_set(PIECES, 40, &size.to_le_bytes());
        p.cost(&[PIECES]);
    }),
    fault("length larger than the clusters, what is valid is not", "exfat/chain-too-short", |p, _| {
        // Nothing is lost: what is valid ends where the file does.
        let path = "Möwen und Lummen/文字.txt";
        let size = p.find(path).size | 1 << 42;
        p.write_set(path, 56, &size.to_le_bytes());
    }),
    fault("length smaller than the clusters", "exfat/chain-too-long", |p, _| {
        let size = p.geometry.cluster_bytes() * 3;
        p.write_set(PIECES, 56, &size.to_le_bytes());
        p.write_set(PIECES, 40, &size.to_le_bytes());
        p.cost(&[PIECES]);
    }),
    Fault {
        choose: &[("long-chain", "chain")],
        ..fault("length smaller than the clusters, which are right", "exfat/chain-too-long", |p, _| {
            let size = p.geometry.cluster_bytes() * 3;
            p.write_set(PIECES, 56, &size.to_le_bytes());
            p.write_set(PIECES, 40, &size.to_le_bytes());
            p.cost(&[PIECES]);
        })
    },
    fault("NoFatChain cleared", "exfat/no-fat-chain-lost", |p, _| p.write_set(ROW, 33, &[1])),
    fault("NoFatChain set on a file in pieces", "exfat/no-fat-chain-wrong", |p, _| {
        p.write_set(PIECES, 33, &[3]);
    }),
    fault("NoFatChain cleared on a folder", "exfat/no-fat-chain-lost", |p, _| {
        let made = p.find(FOLDER);
        if made.clusters.len() > 1 {
            p.write_set(FOLDER, 33, &[1]);
        } else {
            p.write_set(OTHER, 33, &[1]);
        }
    }),
    fault("first cluster 0", "exfat/first-cluster-missing", |p, _| {
        p.write_set(OTHER, 52, &[0; 4]);
        p.costs.push(OTHER.to_owned());
        p.moves(&[OTHER]);
    }),
    fault("first cluster out of range", "exfat/first-cluster-range", |p, _| {
        p.write_set(PIECES, 52, &[0xE5, 0x30, 0xE5, 0]);
    }),
    fault("folder's first cluster out of range", "exfat/first-cluster-range", |p, _| {
        p.write_set(FOLDER, 52, &[0xE5, 0x30, 0xE5, 0]);
        p.moves(&[FOLDER]);
    }),
    fault("folder's first cluster is an unused one", "exfat/lost-folder", |p, _| {
        let made = p.find(FOLDER);
        let unused = p.unused(20).to_le_bytes();
        p.write_set(FOLDER, 52, &unused);
        p.moves(&[FOLDER]);
        let place = p.geometry.cluster_place(made.clusters[0]);
        p.damaged.push(Extent::new(place, 64));
    }),
    fault("folder's clusters hold noise", "exfat/first-cluster-wrong", |p, s| {
        let made = p.find("Möwen und Lummen");
        let place = p.geometry.cluster_place(made.clusters[0]);
        let noise = s.bytes(usize::try_from(p.geometry.cluster_bytes()).expect("small").min(512));
        p.write(place, &noise);
        p.damaged.push(Extent::new(made.entry, u64::from(made.entries) * 32));
        p.cost(&["Möwen und Lummen"]);
    }),
    fault("folder's clusters hold one value", "exfat/first-cluster-wrong", |p, _| {
        let made = p.find("Möwen und Lummen");
        let place = p.geometry.cluster_place(made.clusters[0]);
        let bytes = p.geometry.cluster_bytes() * made.clusters.len() as u64;
        p.fill(place, bytes, 0xFF);
        p.damaged.push(Extent::new(made.entry, u64::from(made.entries) * 32));
        p.cost(&["Möwen und Lummen"]);
    }),
    fault("folder's chain broken", "exfat/chain-into-free", |p, _| {
        let cluster = p.find(CROWDED).clusters[0];
        p.set_link(cluster, 0);
        p.moves(&[CROWDED]);
    }),
    fault("row runs out of the volume", "exfat/run-out-of-range", |p, _| {
        let last = (p.geometry.last_cluster() - 1).to_le_bytes();
        p.write_set(OTHER, 52, &last);
        for number in 0..2 {
            let cluster = p.geometry.last_cluster() - 1 + number;
            p.set_bit(cluster, true);
        }
        p.cost(&[OTHER]);
    }),
    fault("root chain zeroed", "exfat/chain-into-free", |p, _| {
        let root = p.geometry.root_cluster;
        p.set_link(root, 0);
    }),
    fault("root chain runs into itself", "exfat/chain-loop", |p, _| {
        let root = p.geometry.root_cluster;
        p.set_link(root, root);
    }),
    fault("root chain out of range", "exfat/chain-out-of-range", |p, _| {
        let root = p.geometry.root_cluster;
        p.set_link(root, 0x0030_30E5);
    }),
    fault("table zeroed whole", "exfat/chain-into-free", |p, _| {
        for copy in 0..p.geometry.tables {
            let (place, length) = (p.geometry.table_place(copy), p.geometry.table_bytes());
            p.fill(place, length, 0);
        }
        // Of these two each could have what the other lacks.
        p.cost(&[SINGLE, super::LONG]);
    }),
    fault("table erased to FF", "exfat/chain-into-free", |p, _| {
        for copy in 0..p.geometry.tables {
            let (place, length) = (p.geometry.table_place(copy), p.geometry.table_bytes());
            p.fill(place, length, 0xFF);
        }
        p.cost(&[SINGLE, super::LONG]);
    }),
    fault("table and bitmap zeroed", "exfat/used-but-free", |p, _| {
        // One hole over both: the table ends where the clusters begin.
        let (start, end) =
            (p.geometry.table_place(0), p.geometry.cluster_place(2) + p.geometry.bitmap_bytes());
        p.fill(start, end - start, 0);
        p.cost(&[PIECES, SINGLE, "Recordings/dusk 0003.wav", super::LONG]);
    }),
    Fault {
        on: DOUBLY,
        ..fault("first table damaged, the second right", "exfat/copies-differ", |p, _| {
            let clusters = p.find(PIECES).clusters;
            p.set_link_in(0, clusters[2], 0);
            p.set_link_in(0, clusters[5], 0);
        })
    },
    Fault {
        on: DOUBLY,
        ..fault("second table zeroed", "exfat/copies-differ", |p, _| {
            let (place, length) = (p.geometry.table_place(1) + 8, p.geometry.table_bytes() - 8);
            p.fill(place, length, 0);
        })
    },
];
