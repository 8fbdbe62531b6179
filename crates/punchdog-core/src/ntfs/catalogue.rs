//! Every class of NTFS fault: what it is called, what it weighs, on what the demand rests.

use crate::report::finding::{
    Entry,
    Weight::{BlocksMount, Remark, RisksFiles, Untidy},
    catalogue,
};

catalogue! {
    BOOT_GONE = ("ntfs/boot-gone", BlocksMount, "the boot sector is gone", "published boot sector",
        "No host mounts the volume: it shows as RAW or unformatted, however whole the rest is. Hosts do not fall back on the copy.",
        "The copy in the last sector is written over it (exact); without one, it is computed from the records (derived).");
    BOOT_NAME = ("ntfs/boot-name", BlocksMount, "the boot sector does not name NTFS", "published boot sector, byte 3",
        "By these eight letters a host knows that the volume is NTFS. Without them it is RAW.",
        "Set (exact).");
    BOOT_SIGNATURE = ("ntfs/boot-signature", BlocksMount, "the boot sector's signature 55 AA is missing", "published boot sector, byte 510",
        "Windows looks at it first, and refuses the volume without it. Linux does not look.",
        "Set (exact).");
    BOOT_JUMP = ("ntfs/boot-jump", Untidy, "the boot sector does not begin with EB 52 90", "published boot sector, byte 0",
        "It leads to the boot code; a computer does not start from the volume without it.",
        "Set (exact).");
    SECTOR_SIZE = ("ntfs/sector-size", BlocksMount, "the sector size is wrong", "published boot sector, byte 11",
        "Every other place is counted in sectors.",
        "From the copy (exact), or the size under which the records are found (derived).");
    CLUSTER_SIZE = ("ntfs/cluster-size", BlocksMount, "the cluster size is wrong", "published boot sector, byte 13",
        "Every file, the records among them, is looked for in the wrong place.",
        "From the copy (exact), or from the cluster in which record 0 says that it stands (derived).");
    BOOT_ZERO = ("ntfs/boot-must-be-zero", BlocksMount, "fields that must be zero are not", "published boot sector, bytes 14 to 20, 22 and 32",
        "FAT has its sizes there. Windows refuses a volume on which they are set; Linux does not look.",
        "Set to zero (exact).");
    MEDIA = ("ntfs/media", Untidy, "the media descriptor is none", "published boot sector, byte 21",
        "Nothing depends on it.",
        "Set to F8, as hosts write it (exact).");
    TOTAL_SECTORS = ("ntfs/total-sectors", BlocksMount, "the volume's length is wrong", "published boot sector, byte 40",
        "Too short, and the volume's own files lie outside it; too long, and Linux mounts it for reading only.",
        "From the copy (exact), or from the clusters that $BadClus and $Bitmap count (derived).");
    MFT_PLACE = ("ntfs/mft-place", BlocksMount, "$MFT is not where the boot sector says", "published boot sector, byte 48",
        "Without $MFT there is no file.",
        "From the copy (exact), or from record 0's own run list (derived).");
    MIRROR_PLACE = ("ntfs/mirror-place", RisksFiles, "$MFTMirr is not where the boot sector says", "published boot sector, byte 56",
        "Linux writes its copies of the first records to that place, whatever stands there. Outside the volume, it refuses the mount.",
        "From the copy (exact), or from record 1's own run list (derived).");
    RECORD_SIZE = ("ntfs/record-size", BlocksMount, "the size of the records is wrong", "published boot sector, byte 64",
        "No record is read as it is.",
        "From the copy (exact), or from the size that records have (derived).");
    INDEX_SIZE = ("ntfs/index-size", BlocksMount, "the size of the index blocks is wrong", "published boot sector, byte 68",
        "Folders carry their own; but a size that cannot be is refused.",
        "From the copy (exact), or from the root folder (derived).");
    COPY_GONE = ("ntfs/copy-gone", Untidy, "there is no copy of the boot sector", "volumes that were looked at",
        "No host reads it when it mounts; without it, damage to sector 0 has to be mended by computation.",
        "Written from the boot sector (exact).");
    COPY_DIFFERS = ("ntfs/copy-differs", Untidy, "the copy of the boot sector is another one", "volumes that were looked at",
        "A repair that trusts it brings wrong values back.",
        "Written from the boot sector (exact).");
    NO_ROOM_FOR_COPY = ("ntfs/copy-beyond", Remark, "the image ends before the copy of the boot sector", "Linux 6.12, fs/ntfs3/super.c",
        "An image of the volume without its last sector. Linux mounts it for reading only; on its partition it may be whole.",
        "Left as it is: image the whole partition.");
    BEYOND_IMAGE = ("ntfs/volume-longer-than-image", RisksFiles, "the volume is longer than the image", "Linux 6.12, fs/ntfs3/super.c",
        "The image was cut short, or the medium claims more room than it has. What lies behind the end cannot be read.",
        "Left as it is: image the medium again.");

    SYSTEM_RECORD = ("ntfs/system-record", BlocksMount, "a record of the file system's own files is damaged", "Linux 6.12, fs/ntfs3/inode.c",
        "Records 0 to 11 are read at every mount. One that is not in order, and the volume is refused.",
        "From $MFTMirr (exact), or made anew from what else tells of the file (derived).");
    MIRROR_DIFFERS = ("ntfs/mirror-differs", Untidy, "$MFTMirr is not a copy of the first records", "volumes that were looked at",
        "It is read when record 0 is damaged.",
        "Copied from $MFT (exact).");
    MIRROR_RECORD = ("ntfs/mirror-record", Untidy, "a copy in $MFTMirr is damaged", "volumes that were looked at",
        "It is read when record 0 is damaged.",
        "Copied from $MFT (exact).");
    RECORD_LOST = ("ntfs/record-lost", RisksFiles, "a file's record cannot be read", "volumes that were looked at",
        "Where the file's content stands was written there and nowhere else.",
        "A folder's record is written anew (derived), and, with choice content-found, that of a file whose content is found by its name, its size and its kind (judged). Else, with choice lost-records, names and records of such files are dropped (judged), or stay; content may be found by searching.");
    RECORD_SIGNATURE = ("ntfs/record-signature", Untidy, "a record does not begin with FILE", "volumes that were looked at",
        "Windows takes the file for damaged; BAAD is written by a host that met a torn write. Linux does not look.",
        "Set, where the rest of the record is whole (derived).");
    RECORD_HEAD = ("ntfs/record-head", RisksFiles, "the head of a record was written over", "volumes that were looked at",
        "Hosts do not find the fixups, and refuse the file; a folder looks empty.",
        "Written anew by the attributes, which can be read to their end, and by the entry in its folder (derived where the head says the rest; else judged).");
    RECORD_TORN = ("ntfs/record-torn", RisksFiles, "a record is of two writings", "volumes that were looked at",
        "A write was cut off in the middle of it: one of its sectors is older than the others. Windows refuses the file; Linux reads it.",
        "Where all that the record says can be read, its fixups are set anew (judged).");
    RECORD_FIXUPS = ("ntfs/record-fixups", RisksFiles, "the fixups of a record cannot be", "volumes that were looked at",
        "The last two bytes of each of its sectors are not known.",
        "The head is set anew where the rest can be read (derived).");
    RECORD_BROKEN = ("ntfs/record-broken", RisksFiles, "the attributes of a record cannot be read to the end", "Linux 6.12, fs/ntfs3/record.c",
        "Hosts refuse the file.",
        "What can be read is kept where that is all of the file (derived).");
    RECORD_NUMBER = ("ntfs/record-number", Untidy, "a record says that it is another", "volumes that were looked at",
        "It was written to the wrong place, or the field was struck. Linux does not look.",
        "Set (derived).");
    RECORD_USED = ("ntfs/record-used", Untidy, "a record has other bytes in use than it says", "volumes that were looked at",
        "What a host adds next may be written in the wrong place.",
        "Counted (derived).");
    ATTRIBUTE_IDS = ("ntfs/attribute-ids", Untidy, "the ids of a record's attributes are not told apart", "volumes that were looked at",
        "An attribute list names attributes by them.",
        "The next id is set behind the largest (derived).");
    NO_STANDARD = ("ntfs/no-standard-information", RisksFiles, "a file has no standard information", "Linux 6.12, fs/ntfs3/inode.c",
        "Hosts refuse the file.",
        "Made anew from the times of its name (derived).");
    NO_NAME = ("ntfs/no-name", RisksFiles, "a file has no name", "Linux 6.12, fs/ntfs3/inode.c",
        "Hosts refuse the file, and no folder leads to it.",
        "It gets a name in the folder ADRIFT (judged).");
    LINKS = ("ntfs/link-count", Untidy, "a file has another number of names than it says", "Linux 6.12, fs/ntfs3/inode.c",
        "A host that deletes one of them may take the file with it.",
        "Counted (derived).");
    SEQUENCE = ("ntfs/sequence", BlocksMount, "a record of the file system's own files has another sequence number", "Linux 6.12, fs/ntfs3/inode.c",
        "They are numbered like the records themselves; Linux refuses the volume otherwise.",
        "Set (derived).");
    RECORD_FLAG = ("ntfs/record-flag", RisksFiles, "a record says that it is free, and is a file's", "volumes that were looked at",
        "Hosts do not open the file, and give its record to the next one.",
        "The flag is set: the folder's entry and $MFT's bitmap agree, or the attribute list of the file that it extends has it (derived).");
    RECORD_SEQUENCE = ("ntfs/record-sequence", RisksFiles, "a folder's record has another sequence number than all that names it", "Linux 6.12, fs/ntfs3/inode.c",
        "Hosts refuse the folder: entries and files name an older use of its record.",
        "Set as its entry and what stands in it say (derived).");
    NAME_PARENT = ("ntfs/name-folder", RisksFiles, "a name says that it stands in a folder that there is not", "volumes that were looked at",
        "Hosts reach the file; one that mends by the names takes it out of its folder.",
        "Set to the folder whose index has the name (derived).");
    NAME_HEAD = ("ntfs/name-head", RisksFiles, "the length or kind of a name cannot be", "Linux 6.12, fs/ntfs3/frecord.c",
        "Hosts read a longer or shorter name than there is, or none; a short name without a long one beside it is not shown.",
        "The length is that of its value; a kind that there is not becomes the plain one, a short name alone becomes both (derived).");
    RECORD_FOLDER = ("ntfs/record-folder", RisksFiles, "a folder says that it is a file, or the reverse", "Linux 6.12, fs/ntfs3/inode.c",
        "Hosts refuse it, and with it all that is in a folder.",
        "Set by what the record has: an index of names, or content (derived).");
    EXTENSION_LOST = ("ntfs/extension-lost", RisksFiles, "a record extends a file that there is not", "volumes that were looked at",
        "What stands in it belongs to nobody.",
        "Not mended: no file's attribute list has it.");
    EXTENSION_BASE = ("ntfs/extension-base", RisksFiles, "a record extends another file than the one whose list has it", "Linux 6.12, fs/ntfs3/frecord.c",
        "A host that mends by it takes a part of the file away.",
        "Set as the one attribute list says that has the record, or to the one file with the gap that it fills (derived).");
    RECORD_BASE = ("ntfs/record-base", RisksFiles, "a file's record says that it extends another", "Linux 6.12, fs/ntfs3/inode.c",
        "Hosts refuse the file.",
        "The field is cleared: standard information and names stand in a file's own record (derived).");
    LIST = ("ntfs/attribute-list", RisksFiles, "an attribute list is not what the file's records have", "Linux 6.12, fs/ntfs3/attrlist.c",
        "Hosts find what a file has by the list alone: they refuse the file, or show it without a part of its content.",
        "Written anew from the records that extend the file (derived).");
    RUNS = ("ntfs/run-list", RisksFiles, "a run list cannot be read", "Linux 6.12, fs/ntfs3/run.c",
        "Where the content stands is not known from there on.",
        "Where one byte alone gives the file clusters that are in use and nobody's, it is set (derived); the content of the file is looked for in such clusters, with choice content-found (judged); else, with choice unreadable-runs, it ends where that begins (judged), or stays.");
    RUNS_BEYOND = ("ntfs/run-beyond", RisksFiles, "a run lies outside the volume", "Linux 6.12, fs/ntfs3/run.c",
        "Hosts refuse the file.",
        "Where one byte alone gives the file clusters that are in use and nobody's, it is set (derived); the content of the file is looked for in such clusters, with choice content-found (judged); else, with choice unreadable-runs, it ends where that begins (judged), or stays.");
    RUNS_COUNT = ("ntfs/run-count", RisksFiles, "a run list has other clusters than its attribute counts", "Linux 6.12, fs/ntfs3/run.c",
        "Hosts refuse the file.",
        "The last VCN is counted where the sizes bear it out; else the one byte of the list is set that gives the file clusters in use and nobody's (derived), or, with choice content-found, the file is found in them by its content (judged).");
    PIECES = ("ntfs/attribute-pieces", RisksFiles, "the pieces of an attribute leave something out", "volumes that were looked at",
        "A record that has one of them is lost, or names another file.",
        "The index of a folder is laid anew, in one piece (derived). A file ends before that with choice unreadable-runs (judged), or stays; what can be read is copied out first.");
    SIZES = ("ntfs/attribute-sizes", RisksFiles, "the sizes of an attribute do not go together", "Linux 6.12, fs/ntfs3/record.c",
        "Hosts refuse the file.",
        "The allocated size is counted from the runs, the others are cut to it (derived).");
    CROSSED = ("ntfs/clusters-shared", RisksFiles, "files share clusters", "volumes that were looked at",
        "One of them holds the other's content there; what is written to one is written to both.",
        "Where one byte in a run list explains it, that is set (judged; derived for a file of the file system's own); a file whose content does not end there as its size says, and does in clusters in use and nobody's, gets those with choice content-found (judged). One of those that leads to what it cannot hold gets its record anew (derived). Else, with choice cross-link, each file gets its own copy of them, or the later ones end before them (judged).");

    RECORD_FREE = ("ntfs/record-marked-free", RisksFiles, "a file's record is marked free", "volumes that were looked at",
        "The next new file is written over it.",
        "Marked in use in $MFT's bitmap (derived).");
    RECORD_USED_UP = ("ntfs/record-marked-used", Untidy, "a free record is marked in use", "volumes that were looked at",
        "It is never given to a file.",
        "Marked free in $MFT's bitmap (derived).");
    MFT_BITMAP = ("ntfs/mft-bitmap", BlocksMount, "$MFT's bitmap cannot be read", "Linux 6.12, fs/ntfs3/super.c",
        "No host knows which records are free.",
        "Not mended yet.");
    CLUSTERS_FREE = ("ntfs/cluster-marked-free", RisksFiles, "clusters of files are marked free", "volumes that were looked at",
        "The next file is written over them. Linux marks them used again, also when it mounts for reading only.",
        "Marked in use in $Bitmap (derived).");
    CLUSTERS_USED = ("ntfs/cluster-marked-used", Untidy, "clusters are marked in use that no file has", "volumes that were looked at",
        "Their room is lost; or what they hold is of a file whose record is lost.",
        "With choice unowned-clusters: left in use, or freed (derived).");
    BITMAP_SIZE = ("ntfs/bitmap-size", BlocksMount, "$Bitmap is too short", "Linux 6.12, fs/ntfs3/super.c",
        "Linux refuses the volume.",
        "Its size is set from the volume's clusters where it has room (derived).");
    BITMAP_GONE = ("ntfs/bitmap-gone", BlocksMount, "$Bitmap cannot be read", "Linux 6.12, fs/ntfs3/super.c",
        "No host knows which clusters are free.",
        "Its record is made anew (derived).");

    DIRTY = ("ntfs/not-closed", Untidy, "the volume is marked dirty", "published volume flags",
        "A host was interrupted, or met errors: Windows checks the volume when it starts, Linux mounts it for reading only.",
        "Cleared when nothing else is wrong any more (derived).");
    VOLUME_FLAGS = ("ntfs/volume-flags", Remark, "volume flags are set that mean something to a host", "published volume flags",
        "A host has work to do at its next mount.",
        "Left as they are.");
    VERSION = ("ntfs/version", Untidy, "the volume's version is none that was ever used", "published volume versions",
        "Windows refuses it; below 3 Linux leaves out security and extensions.",
        "Set to 3.1 where the volume has what that brought (derived).");
    VOLUME_INFO = ("ntfs/volume-information", BlocksMount, "$Volume has no volume information", "Linux 6.12, fs/ntfs3/super.c",
        "Linux refuses the volume.",
        "From $MFTMirr (exact), or made anew (derived).");
    LOG_IN_USE = ("ntfs/log-in-use", RisksFiles, "$LogFile was not closed", "Linux 6.12, fs/ntfs3/fslog.c",
        "Changes may wait in it: what the volume shows may be older than the last minute before the accident. A host replays them at its next mount for writing.",
        "With choice log: left for a host to replay, or reset (judged).");
    LOG_GARBAGE = ("ntfs/log-garbage", RisksFiles, "$LogFile holds no log", "Linux 6.12, fs/ntfs3/fslog.c",
        "Linux mounts for reading only. What waited in it is lost.",
        "Reset: filled with FF, which hosts take for an empty log (judged).");
    LOG_GONE = ("ntfs/log-gone", BlocksMount, "$LogFile cannot be read", "Linux 6.12, fs/ntfs3/super.c",
        "Linux refuses the volume, or mounts it for reading only.",
        "Its record is made anew (derived).");
    ASLEEP = ("ntfs/host-asleep", RisksFiles, "a host hibernates on this volume", "volumes that were looked at",
        "Its hibernation file holds a host that will go on where it stopped, and write what it remembers over any repair. Fast start does the same at every shutdown.",
        "Never by default: wake that host and shut it down fully; or choice hibernated, which wakes it from nothing.");

    UPCASE = ("ntfs/up-case", RisksFiles, "$UpCase holds no table of capitals", "Linux 6.12, fs/ntfs3/super.c",
        "Names are looked up by it: hosts list files and do not find them.",
        "Letters that are wrong get their usual capitals (derived).");
    ATTRDEF = ("ntfs/attribute-definitions", BlocksMount, "$AttrDef is not the table of attributes", "Linux 6.12, fs/ntfs3/super.c",
        "Linux refuses the volume where it does not begin as it should.",
        "The usual table is written (derived).");
    BADCLUS = ("ntfs/bad-clusters-list", BlocksMount, "$BadClus is not as long as the volume", "Linux 6.12, fs/ntfs3/super.c",
        "Linux refuses the volume where it is longer.",
        "Its length is set from the volume's clusters (derived).");
    BAD_CLUSTERS = ("ntfs/bad-clusters", Remark, "clusters are marked as failed", "volumes that were looked at",
        "The medium failed there at some time.",
        "Left as they are.");
    SECURE = ("ntfs/security-descriptors", RisksFiles, "descriptors in $Secure are damaged", "volumes that were looked at",
        "Descriptors say who may read a file. Hosts that do not find one let nobody in, or everybody.",
        "The copy whose hash fits is written over the other (exact); of two ids, that is taken which follows sooner (judged). Where both are damaged: put together from the two where the hash then fits (derived), else what is usual in its place (judged).");
    SECURE_INDEX = ("ntfs/security-index", BlocksMount, "an index of $Secure is wrong", "Linux 6.12, fs/ntfs3/fsntfs.c",
        "Hosts look up by it who may read a file: they let nobody in, or store a descriptor a second time. Linux refuses the volume where an entry's length cannot be.",
        "Laid anew from the descriptors whose hashes fit (derived).");
    EXTEND_INDEX = ("ntfs/extend-index", Untidy, "an index of files in $Extend is not as their records are", "volumes that were looked at",
        "Links that follow a file by its id do not find it; tools that look for links and mount points by it miss them, or go to files that are none. The files themselves open as they did.",
        "Laid anew from what the records of the files say (derived).");
    QUOTA_INDEX = ("ntfs/quota-index", Remark, "an index of $Quota cannot be read", "volumes that were looked at",
        "What owners may use stands nowhere else. Hosts that count it do so anew, without the limits that were set; the others do not look at it.",
        "Left as it is: set the limits again where there were any.");
    SECURITY_ID = ("ntfs/security-id", Untidy, "files name a descriptor that there is not", "volumes that were looked at",
        "Hosts take what is usual.",
        "They get the one that the other files of their folder have, or the folder itself (judged).");

    INDEX_ROOT = ("ntfs/index-root", RisksFiles, "the root of a folder's index is damaged", "Linux 6.12, fs/ntfs3/index.c",
        "Hosts show nothing of what is in the folder. Its files are known by their own records.",
        "The index is laid anew from the names that the records have (derived).");
    INDEX_BLOCK = ("ntfs/index-block", RisksFiles, "a block of a folder's index is damaged", "Linux 6.12, fs/ntfs3/index.c",
        "Hosts stop listing the folder there. Its files are known by their own records.",
        "The block gets the names that belong between its neighbours, from the records (derived); where that does not do, the index is laid anew.");
    INDEX_TORN = ("ntfs/index-torn", RisksFiles, "a block of a folder's index is of two writings", "volumes that were looked at",
        "A write was cut off in the middle of it.",
        "The block is written anew from the names that the records have (derived).");
    INDEX_ENTRY = ("ntfs/index-entry", RisksFiles, "an entry of a folder's index cannot be read", "Linux 6.12, fs/ntfs3/index.c",
        "Hosts stop listing the folder there.",
        "The block gets the names that belong into it, from the records (derived).");
    INDEX_ORDER = ("ntfs/index-order", RisksFiles, "entries of a folder's index are out of order", "Linux 6.12, fs/ntfs3/index.c",
        "Hosts list the files and do not find them by name.",
        "The entries are put in order by the volume's own capitals (derived).");
    INDEX_BITMAP = ("ntfs/index-bitmap", RisksFiles, "blocks of a folder's index are not marked as they are used", "volumes that were looked at",
        "The next new name may be written over a block in use.",
        "Blocks are marked as they are used (derived).");
    ENTRY_MISSING = ("ntfs/index-entry-missing", RisksFiles, "a folder's index does not lead to a file that is in it", "volumes that were looked at",
        "Hosts do not show the file. Its record is whole.",
        "The name is put in, from the record (derived).");
    NAME_TWICE = ("ntfs/name-twice", RisksFiles, "two files of a folder have one name", "Linux 6.12, fs/ntfs3/index.c",
        "Hosts find one of them.",
        "The one that no index leads to is numbered; a short name beside a long one is given up (judged).");
    ENTRY_KIND = ("ntfs/index-entry-kind", RisksFiles, "a folder's index says that a file is a folder, or the reverse", "Linux 6.12, fs/ntfs3/dir.c",
        "Hosts list it as what it is not; what goes through folders leaves it out.",
        "Set as the record says (derived).");
    RECORD_OLDER = ("ntfs/record-older", RisksFiles, "a file's record is of an earlier writing than its folder", "volumes that were looked at",
        "A write was cut off: the folder has the file as it was last, its record as it was before. Where the record says that the content stands, another file's may by now.",
        "The entry gets what the record says (judged); open the file before it is handed out.");
    ENTRY_TOLD = ("ntfs/index-entry-sizes", Untidy, "a folder's index shows a file with another size or time than it has", "volumes that were looked at",
        "Some hosts list files by it: they show a size, or a time, that the file does not have.",
        "Set as the record says (derived).");
    ENTRY_LATE = ("ntfs/index-entry-late", Remark, "a folder's index shows files with an earlier time of change", "volumes that were looked at",
        "Hosts write it later than the record: lists show the earlier time until the file is changed again.",
        "Left as it is.");
    SHORT_MISSING = ("ntfs/short-name-missing", Untidy, "a folder's index lacks short names", "volumes that were looked at",
        "Programs that know files by their short names do not find them.",
        "The names are put in, from the records (derived).");
    ENTRY_STALE = ("ntfs/index-entry-stale", Untidy, "a folder's index names a file that is not there", "Linux 6.12, fs/ntfs3/namei.c",
        "Hosts list a name that cannot be opened.",
        "The entry is taken out, or names the record that the file has (derived).");
    ORPHAN = ("ntfs/orphan", RisksFiles, "the folder that a file names is gone", "volumes that were looked at",
        "No host leads to the file. Its record is whole.",
        "The folder's record is written anew where an entry still names it (derived); else the file is put into the folder ADRIFT (judged).");
    PACKED = ("ntfs/packed-by-host", Remark, "files are packed behind a reparse point", "volumes that were looked at",
        "Their content is in a stream of its own; read without that host they are zeros.",
        "Left as they are.");
    ENCRYPTED = ("ntfs/encrypted", Remark, "files are encrypted", "volumes that were looked at",
        "Only the keys of their owner make them readable.",
        "Left as they are.");
    FORMER = ("ntfs/older-volume-in-free-space", Remark, "something of an older volume lies in free space", "volumes that were looked at",
        "Another file system left that: most likely it was formatted over. What was on it before is named by nothing any more, but not all of it is written over.",
        "Left alone. Write nothing to the medium, and keep the image: each write can take an older file.");
}
