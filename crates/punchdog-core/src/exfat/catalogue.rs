//! Every class of exFAT fault: what it is called, what it weighs, what the specification says.

use crate::report::finding::{
    Entry,
    Weight::{BlocksMount, Remark, RisksFiles, Untidy},
    catalogue,
};

catalogue! {
    BOOT_GONE = ("exfat/boot-gone", BlocksMount, "the main boot sector is gone", "exFAT 1.00, 3.1",
        "No host mounts the volume: it shows as RAW or unformatted, however whole the rest is. Hosts do not fall back on the backup.",
        "The backup boot region is copied over it (exact); without one, it is computed from the table, the root folder and the bitmap (derived).");
    BOOT_SIGNATURE = ("exfat/boot-signature", BlocksMount, "the boot sector's signature 55 AA is missing", "exFAT 1.00, 3.1.19",
        "Every host looks at it first, and refuses the volume without it.",
        "Set (exact).");
    BOOT_NAME = ("exfat/boot-name", BlocksMount, "the boot sector does not name exFAT", "exFAT 1.00, 3.1.2",
        "By these eight letters a host knows that the volume is exFAT. Without them it is RAW.",
        "Set (exact).");
    MUST_BE_ZERO = ("exfat/boot-must-be-zero", BlocksMount, "bytes 11 to 63 of the boot sector are not zero", "exFAT 1.00, 3.1.3",
        "A FAT driver has its own fields there; exFAT hosts refuse a volume on which they are set.",
        "Set to zero (exact).");
    BOOT_JUMP = ("exfat/boot-jump", BlocksMount, "the boot sector does not begin with EB 76 90", "exFAT 1.00, 3.1.1",
        "The specification demands it; Linux does not look.",
        "Set (exact).");
    VOLUME_LENGTH = ("exfat/volume-length", RisksFiles, "the volume length is wrong", "exFAT 1.00, 3.1.5",
        "Linux mounts all the same; a volume that seems to end too early turns read-only when a folder is made behind its end.",
        "From the backup (exact), or from the clusters and the image's length (derived).");
    FAT_OFFSET = ("exfat/fat-offset", BlocksMount, "the table is not where the boot sector says", "exFAT 1.00, 3.1.6",
        "The root folder's chain is read from somewhere else.",
        "From the backup (exact), or from where a table begins (derived).");
    FAT_LENGTH = ("exfat/fat-length", BlocksMount, "the length of the table is wrong", "exFAT 1.00, 3.1.7",
        "A table that is too short for the clusters, or reaches into them, is refused.",
        "From the backup (exact), or computed from the number of clusters (derived).");
    HEAP_OFFSET = ("exfat/heap-offset", BlocksMount, "the clusters do not begin where the boot sector says", "exFAT 1.00, 3.1.8",
        "Every file, the root folder among them, is looked for in the wrong place.",
        "From the backup (exact), or from the places of the up-case table and of folders (derived).");
    CLUSTER_COUNT = ("exfat/cluster-count", BlocksMount, "the number of clusters is wrong", "exFAT 1.00, 3.1.9",
        "The bitmap has one bit a cluster: it seems too short, or files at the end lie outside.",
        "From the backup (exact), or from the bitmap's length and the volume's (derived).");
    ROOT_CLUSTER = ("exfat/root-cluster", BlocksMount, "the root folder's first cluster is wrong", "exFAT 1.00, 3.1.10",
        "Without the root there is no bitmap, and the volume is refused.",
        "From the backup (exact), or the cluster that reads as a root folder (derived).");
    REVISION = ("exfat/revision", BlocksMount, "the revision is none that was published", "exFAT 1.00, 3.1.12",
        "A host must not mount a volume of a later major revision. Linux does not look.",
        "Set to 1.00 (derived).");
    SECTOR_SHIFT = ("exfat/sector-size", BlocksMount, "the sector size is wrong", "exFAT 1.00, 3.1.14",
        "Every other place is counted in sectors.",
        "From the backup (exact), or the size under which everything is found (derived).");
    CLUSTER_SHIFT = ("exfat/cluster-size", BlocksMount, "the cluster size is wrong", "exFAT 1.00, 3.1.15",
        "Every cluster but the first is looked for in the wrong place.",
        "From the backup (exact), or the size under which folders and tables are found (derived).");
    FAT_COUNT = ("exfat/fat-count", BlocksMount, "the number of tables is wrong", "exFAT 1.00, 3.1.16",
        "Only 1, or 2 for TexFAT, is allowed.",
        "From the backup (exact), or by the tables that are found (derived).");
    PERCENT = ("exfat/percent-in-use", Untidy, "the percentage in use is none", "exFAT 1.00, 3.1.18",
        "Only 0 to 100, or FF for not known, is allowed; hosts show it before they have counted.",
        "Counted in the bitmap (derived).");
    PERCENT_STALE = ("exfat/percent-stale", Remark, "the percentage in use is not up to date", "exFAT 1.00, 3.1.18",
        "Some hosts do not keep it up to date; nothing depends on it.",
        "Left as it is.");
    BOOT_RESERVED = ("exfat/boot-reserved-bytes", Untidy, "reserved bytes of the boot sector are not zero", "exFAT 1.00, 3.1",
        "Hosts ignore them; the specification wants zeroes.",
        "Set to zero (exact).");
    EXTENDED = ("exfat/extended-signature", BlocksMount, "an extended boot sector has lost its signature", "exFAT 1.00, 3.2.1",
        "Sectors 1 to 8 end with 00 00 55 AA. With a checksum that fits, Linux only says so.",
        "Set, or copied from the backup region (exact).");
    CHECKSUM = ("exfat/boot-checksum", BlocksMount, "the boot checksum does not fit", "exFAT 1.00, 3.4",
        "Sector 11 holds the checksum of the eleven sectors before it, over and over. One changed byte, and every host refuses the volume.",
        "The region is copied from the backup where that is whole (exact); else the checksum is computed anew (derived).");
    BACKUP_GONE = ("exfat/backup-gone", Untidy, "there is no backup boot region", "exFAT 1.00, 3.1",
        "No host reads it when it mounts; without it, damage to the first sectors has to be mended by computation.",
        "Copied from the main boot region (exact).");
    BACKUP_DIFFERS = ("exfat/backup-differs", Untidy, "the backup boot region is not a copy of the main one", "exFAT 1.00, 3.1",
        "A repair that trusts it brings wrong values back.",
        "Copied from the main boot region (exact).");
    DIRTY = ("exfat/not-closed", Untidy, "the volume was not closed", "exFAT 1.00, 3.1.13.2",
        "The host was interrupted while it wrote; Linux says so at every mount, and never clears it.",
        "Cleared when nothing else is wrong any more (derived).");
    FAILURE = ("exfat/errors-met", Untidy, "a host met read or write errors", "exFAT 1.00, 3.1.13.3",
        "The medium failed at some time. Look for unreadable sectors before trusting it.",
        "Cleared when nothing else is wrong any more (derived).");
    ACTIVE = ("exfat/active-fat", BlocksMount, "the second table is active, but there is only one", "exFAT 1.00, 3.1.13.1",
        "Hosts that obey the flag look for a table that does not exist; Linux ignores it.",
        "Cleared (derived).");
    BEYOND_IMAGE = ("exfat/volume-beyond-image", RisksFiles, "the volume is longer than the image", "exFAT 1.00, 3.1.5",
        "The image was cut short, or the medium claims more room than it has. What lies behind the end cannot be read.",
        "Image the medium again. Choice `cut-image`: `keep` changes no length and frees nothing; `shrink` makes the volume as long as the image and cuts what lies behind (judged).");
    FAT_FIRST = ("exfat/table-first-entries", Untidy, "the first two entries of the table are not what they must be", "exFAT 1.00, 4.1.1, 4.1.2",
        "They are F8 FF FF FF and FF FF FF FF on every volume. Linux does not look.",
        "Set (exact).");
    COPIES_DIFFER = ("exfat/copies-differ", Untidy, "the two tables of a TexFAT volume differ", "exFAT 1.00, 3.1.16",
        "Only the active one counts for a host; the other is the last state that was complete.",
        "Each chain from the copy in which it fits its file (exact); then both are made alike.");
    BITMAP_MISSING = ("exfat/bitmap-entry-missing", BlocksMount, "the root folder has no bitmap entry", "exFAT 1.00, 7.1",
        "A host that does not know which clusters are free does not mount.",
        "The bitmap is found by its own bits and given an entry (derived); else it is made anew from the folders (derived).");
    BITMAP_ENTRY = ("exfat/bitmap-entry", BlocksMount, "the bitmap entry is wrong", "exFAT 1.00, 7.1",
        "First cluster or length lead to something else than the bitmap.",
        "Set to where the bitmap stands, and as long as the clusters need (derived).");
    BITMAP_DOUBLE = ("exfat/bitmap-entry-doubled", BlocksMount, "the root folder has a second bitmap entry", "exFAT 1.00, 7.1",
        "One bitmap is allowed, two under TexFAT.",
        "The entry that does not lead to the bitmap is freed (derived).");
    UPCASE_MISSING = ("exfat/upcase-entry-missing", BlocksMount, "the root folder has no up-case entry", "exFAT 1.00, 7.2",
        "Linux mounts such a volume read-only, whatever was asked; other hosts refuse it.",
        "The table is found and given an entry, or the recommended one is written anew (derived).");
    UPCASE_ENTRY = ("exfat/upcase-entry", BlocksMount, "the up-case entry is wrong", "exFAT 1.00, 7.2",
        "First cluster, length or checksum lead to something else than the table.",
        "Set to where the table stands (derived).");
    UPCASE_DOUBLE = ("exfat/upcase-entry-doubled", BlocksMount, "the root folder has a second up-case entry", "exFAT 1.00, 7.2",
        "Exactly one is allowed.",
        "The second is freed (derived).");
    UPCASE_CHECKSUM = ("exfat/upcase-checksum", BlocksMount, "the up-case table does not have its checksum", "exFAT 1.00, 7.2.2",
        "The specification demands that it fits. Linux takes its own table instead, and says so.",
        "Where the table is the recommended one, the checksum is set; else the recommended one is written (derived).");
    UPCASE_DATA = ("exfat/upcase-table", BlocksMount, "the up-case table is damaged", "exFAT 1.00, 7.2.5",
        "By it names are compared and hashed: with a wrong one, files are listed that cannot be opened.",
        "The recommended table is written (derived), as nearly all volumes have it.");
    LABEL_LENGTH = ("exfat/label-length", Untidy, "the label's length is none", "exFAT 1.00, 7.3.2",
        "At most 11 characters are allowed.",
        "Counted (derived).");
    LABEL_DOUBLE = ("exfat/label-doubled", Untidy, "the root folder has a second label", "exFAT 1.00, 7.3",
        "At most one is allowed.",
        "Freed (derived).");
    USED_BUT_FREE = ("exfat/used-but-free", RisksFiles, "clusters in use are free by the bitmap", "exFAT 1.00, 7.1.5",
        "The next file that is written may be put there: two files then share clusters.",
        "Marked as in use (derived).");
    LOST_CLUSTERS = ("exfat/lost-clusters", Untidy, "clusters in use belong to nothing", "exFAT 1.00, 7.1.5",
        "They may be what is left of a missing file, or room that is wasted.",
        "With choice lost-chains: kept as files in the folder ADRIFT (judged), or freed. What is blank is freed.");
    FORMER = ("exfat/older-volume-in-free-space", Remark, "folders of an older volume lie in free space", "exFAT 1.00, 7.4",
        "Another file system left that: most likely it was formatted over. What was on it before is named by nothing any more, but not all of it is written over.",
        "Left alone. Write nothing to the medium, and keep the image: each write can take an older file.");
    CRITICAL = ("exfat/unknown-critical-entry", RisksFiles, "an entry set has a critical entry of an unknown type", "exFAT 1.00, 8.2",
        "The specification bars a host that does not know the entry from using the file: what it says of the content is not known.",
        "Left alone: it was written by something that knows it. Read the file where it was written.");
    HIDDEN_TREE = ("exfat/hidden-tree", Remark, "ordinary files and folders are hidden", "exFAT 1.00, 7.4.4",
        "Malware does so, and often puts shortcuts or programs of the same names in their place. Hosts do not show what is hidden; all of it is there. Open none of what stands beside it.",
        "Choice `hidden-files`: `show` clears the hidden and system bits (judged); `leave` changes nothing.");
    HOLLOW = ("exfat/content-blank", RisksFiles, "nothing but one value stands where files should be", "exFAT 1.00, 7.4",
        "From some place to the end of the medium everything reads as zero, or as FF: a medium with less room than it claims (false capacity), a copy that was cut off or failed, or a chip that died.",
        "Left alone: the content is not in this image. Image the medium again, with another reader; what reads blank again was never stored.");
    UNSEEN = ("exfat/owner-not-in-image", Remark, "clusters in use may belong to files whose folders are not in the image", "exFAT 1.00, 7.1.5",
        "The image ends before folders that the volume has. What they name cannot be told from what nobody owns.",
        "Left alone. Image the medium again.");
    LOST_FOLDER = ("exfat/lost-folder", RisksFiles, "a folder has no entry", "exFAT 1.00, 7.4",
        "Its files are out of reach.",
        "It gets an entry in the root folder (derived); its name is lost.");
    SET_CHECKSUM = ("exfat/set-checksum", RisksFiles, "an entry set does not have its checksum", "exFAT 1.00, 6.3.3",
        "The specification bars hosts from using the set: the file does not show. Linux does not look.",
        "Computed anew, where the rest of the set fits (derived).");
    SET_COUNT = ("exfat/secondary-count", RisksFiles, "an entry set gives a wrong number of entries", "exFAT 1.00, 6.3.2",
        "Hosts skip the set without a word: the file does not show.",
        "Counted by the name's length and the entries that follow (exact where the checksum then fits).");
    SET_TYPES = ("exfat/set-entry-type", RisksFiles, "an entry of a set has lost its type", "exFAT 1.00, 6.2.1",
        "Hosts skip the set without a word: the file does not show.",
        "Set to the type that belongs there (exact where the checksum then fits).");
    HEAD_LOST = ("exfat/set-head-lost", RisksFiles, "the first entry of a set is lost", "exFAT 1.00, 7.4",
        "Hosts skip what follows: the file does not show. Its attributes and times are lost.",
        "Made anew for what follows it, whose name has its hash and whose clusters are in use and nobody else's (derived); the times become 1 January 1980.");
    NAME_LOST = ("exfat/set-name-lost", RisksFiles, "the name of a file is lost", "exFAT 1.00, 7.7",
        "Hosts skip the set: the file does not show. Its clusters, length, times and attributes are known.",
        "The number that goes on from its neighbours, where just one such name has the hash; else one that is made up (judged).");
    NAME_LENGTH = ("exfat/name-length", RisksFiles, "a name's length is wrong", "exFAT 1.00, 7.6.3",
        "The file is listed and cannot be opened, or its name is cut.",
        "Counted (exact where the hash then fits).");
    NAME_TAIL = ("exfat/name-tail", RisksFiles, "characters stand behind a name's end", "exFAT 1.00, 7.7.3",
        "Some hosts go by the length, others read on to the first empty character: the file is listed under a longer name, and whoever opens it is told that it does not exist.",
        "Cleared; where the hash fits the name as its length has it, that is exact.");
    NAME_HASH = ("exfat/name-hash", RisksFiles, "a name does not have its hash", "exFAT 1.00, 7.6.4",
        "The file is listed, but whoever opens it is told that it does not exist.",
        "Computed anew (derived).");
    NAME_ILLEGAL = ("exfat/name-illegal", RisksFiles, "a name has characters that are not allowed", "exFAT 1.00, 7.7.3",
        "One such name can empty the whole listing of its folder.",
        "The characters become _ (judged).");
    NAME_TWICE = ("exfat/name-doubled", RisksFiles, "a folder has the same name twice", "exFAT 1.00, 7.7.3",
        "Only one of the two can be reached.",
        "The second is given another name (judged).");
    VALID_LENGTH = ("exfat/valid-length", RisksFiles, "more bytes of a file are valid than it has", "exFAT 1.00, 7.6.5",
        "Linux says so and takes the smaller number.",
        "Set to the length (derived).");
    FOLDER_LENGTH = ("exfat/folder-length", RisksFiles, "a folder's length is wrong", "exFAT 1.00, 7.6.7",
        "It must be a number of whole clusters, and as many as it has. Entries behind it do not show.",
        "Set to its clusters (derived).");
    FLAGS = ("exfat/stream-flags", RisksFiles, "the flags of a stream entry contradict the rest", "exFAT 1.00, 6.3.4",
        "Without AllocationPossible hosts take the clusters for nothing.",
        "Set as the clusters are (derived).");
    ATTRIBUTES = ("exfat/attribute-bits", Untidy, "reserved attribute bits are set", "exFAT 1.00, 7.4.4",
        "They mean nothing.",
        "Cleared (derived).");
    FIRST_UNUSED = ("exfat/first-cluster-unused", Untidy, "a file without content names a first cluster", "exFAT 1.00, 6.3.5",
        "It must be 0 then.",
        "Set to 0 (derived).");
    FIRST_MISSING = ("exfat/first-cluster-missing", RisksFiles, "a file with a length has no first cluster", "exFAT 1.00, 6.3.5",
        "Its content is out of reach.",
        "Clusters in use that fit and belong to nothing else (judged); else the file is emptied (judged).");
    FIRST_RANGE = ("exfat/first-cluster-range", RisksFiles, "a first cluster is none of the volume", "exFAT 1.00, 6.3.5",
        "Linux says so and shows the file empty.",
        "Clusters in use that fit and belong to nothing else (judged); else the file is emptied (judged).");
    FIRST_WRONG = ("exfat/first-cluster-wrong", RisksFiles, "a folder's first cluster holds no folder", "exFAT 1.00, 7.4",
        "What is in the folder is out of reach.",
        "It is made a file, so that what it holds can be looked at (judged).");
    RUN_RANGE = ("exfat/run-out-of-range", RisksFiles, "clusters in a row run out of the volume", "exFAT 1.00, 6.3.4.2",
        "The end of the file cannot be read.",
        "With choice short-chain: the length is set to what is there (derived).");
    INTO_FREE = ("exfat/chain-into-free", RisksFiles, "a chain runs into an empty table entry", "exFAT 1.00, 4.1.3",
        "The rest of the file cannot be read; a root folder with this is not mounted.",
        "What follows and belongs to nothing else (judged), or ended by the length (derived).");
    INTO_BAD = ("exfat/chain-into-bad", RisksFiles, "a chain runs into a bad cluster", "exFAT 1.00, 4.1.3",
        "The rest of the file cannot be read.",
        "What follows and belongs to nothing else (judged), or ended by the length (derived).");
    INTO_RANGE = ("exfat/chain-out-of-range", RisksFiles, "a chain runs out of the volume", "exFAT 1.00, 4.1.3",
        "The rest of the file cannot be read.",
        "What follows and belongs to nothing else (judged), or ended by the length (derived).");
    LOOP = ("exfat/chain-loop", RisksFiles, "a chain runs into itself", "exFAT 1.00, 4.1.3",
        "Reading it never ends, or repeats.",
        "Ended by the length (derived), or what follows and belongs to nothing else (judged).");
    CROSSED = ("exfat/cross-linked", RisksFiles, "a file shares clusters with another", "exFAT 1.00, 4.1",
        "A cluster belongs to one file. Writing to one changes the other.",
        "With choice cross-link: each gets its own copy of what is shared, or one is cut (judged).");
    SHORT = ("exfat/chain-too-short", RisksFiles, "a file has fewer clusters than its length needs", "exFAT 1.00, 7.6.7",
        "What is missing cannot be read.",
        "With choice short-chain: the length is set to what is there (derived), or left.");
    LONG = ("exfat/chain-too-long", Untidy, "a file has more clusters than its length needs", "exFAT 1.00, 7.6.7",
        "Room is wasted; or the length is wrong.",
        "With choice long-chain: the chain is ended by the length (derived), or the length set to the chain.");
    FLAG_LOST = ("exfat/no-fat-chain-lost", RisksFiles, "a file in a row has lost its NoFatChain flag", "exFAT 1.00, 6.3.4.2",
        "Hosts ask the table, which has no chain: the file ends after its first cluster.",
        "The flag is set: the clusters that follow are in use and nobody else's (derived).");
    FLAG_WRONG = ("exfat/no-fat-chain-wrong", RisksFiles, "a fragmented file has the NoFatChain flag", "exFAT 1.00, 6.3.4.2",
        "Hosts read what follows its first cluster, which is another file's.",
        "The flag is cleared: the table has a chain of the right length (derived).");
    END_EARLY = ("exfat/end-mark-early", RisksFiles, "an end mark hides files", "exFAT 1.00, 6.2.1.1",
        "Hosts stop there: what follows does not show.",
        "The mark becomes an unused entry (derived).");
    TAIL = ("exfat/folder-tail", Untidy, "something stands behind a folder's end mark", "exFAT 1.00, 6.2.1.1",
        "All entries behind the end mark must be empty; some hosts show garbage.",
        "Cleared (derived).");
    STRAY = ("exfat/stray-entry", Untidy, "secondary entries belong to no file", "exFAT 1.00, 6.4",
        "They are what is left of a set.",
        "Freed (derived).");
    JUNK = ("exfat/junk-entry", RisksFiles, "a folder holds entries that no host wrote", "exFAT 1.00, 6.2",
        "They may have been files.",
        "Freed (judged).");
    UNKNOWN = ("exfat/unknown-entry", Remark, "an entry is of a type that the specification does not know", "exFAT 1.00, 8.2",
        "It belongs to a later revision or to a vendor; such an entry is left alone.",
        "Left as it is.");
    DELETED_IN_USE = ("exfat/deleted-in-use", RisksFiles, "a file is marked deleted, but its clusters are in use", "exFAT 1.00, 6.2.1.4",
        "The set is whole but for its in-use bits; hosts do not show it.",
        "With choice deleted-in-use: listed again (derived), or the delete is finished.");
}
