//! Every class of fault of a FAT volume, explained once. `docs/findings.md` is made from this.

use crate::report::finding::{
    Entry,
    Weight::{BlocksMount, Remark, RisksFiles, Untidy},
    catalogue,
};

catalogue! {
    BOOT_GONE = ("fat/boot-gone", BlocksMount, "the boot sector is gone", "FAT 1.03, Boot Sector and BPB",
        "Sector 0 holds zeroes, another byte throughout, or foreign data. Hosts show an unformatted volume and offer to format it, although everything behind may be whole.",
        "FAT32: copied from the backup boot sector where one fits the volume (exact). Otherwise computed from the tables, the folders and the image's length (derived).");
    BOOT_SIGNATURE = ("fat/boot-signature", BlocksMount, "the boot sector's signature 55 AA is missing", "FAT 1.03, Signature_word",
        "Several hosts take a sector without it for no boot sector at all. Linux does not look at it.",
        "Written at byte 510 (derived).");
    BOOT_JUMP = ("fat/boot-jump", Untidy, "the boot sector does not begin with a jump", "FAT 1.03, BS_jmpBoot",
        "The specification allows EB ?? 90 and E9 ?? ??; some hosts refuse anything else.",
        "Taken from the backup (exact), or the usual jump for the kind of FAT (derived).");
    SECTOR_SIZE = ("fat/bpb-sector-size", BlocksMount, "the sector size is wrong", "FAT 1.03, BPB_BytsPerSec",
        "Every other place is counted in sectors: with a wrong size everything is looked for in the wrong place.",
        "From the backup (exact), or the size at which tables and root are found (derived).");
    CLUSTER_SIZE = ("fat/bpb-cluster-size", BlocksMount, "the cluster size is wrong", "FAT 1.03, BPB_SecPerClus",
        "Files are cut and joined at wrong places. A value that is not a power of two is refused by every host.",
        "From the backup (exact), or from the distance of folders that name their own clusters and the lengths of chains (derived).");
    RESERVED = ("fat/bpb-reserved", BlocksMount, "the number of reserved sectors is wrong", "FAT 1.03, BPB_RsvdSecCnt",
        "The table is looked for in the wrong place. Zero is refused by every host.",
        "From the backup (exact), or from where a table is found (derived).");
    TABLE_COUNT = ("fat/bpb-table-count", BlocksMount, "the number of allocation tables is wrong", "FAT 1.03, BPB_NumFATs",
        "Root folder and data are looked for in the wrong place. Zero is refused by every host.",
        "From the backup (exact), or from the copies that are found (derived).");
    ROOT_ENTRIES = ("fat/bpb-root-entries", BlocksMount, "the number of root folder entries is wrong", "FAT 1.03, BPB_RootEntCnt",
        "FAT12 and FAT16: the data area moves, so that all files show foreign content. FAT32: must be 0, else the data area moves as well.",
        "From the backup (exact), or from the space between the tables and the first cluster (derived).");
    TOTAL_SECTORS = ("fat/bpb-total-sectors", RisksFiles, "the number of sectors is wrong", "FAT 1.03, BPB_TotSec16, BPB_TotSec32",
        "Too small: files at the end are cut off, and the kind of FAT can flip. Too large: files are written past the end. Linux accepts both.",
        "From the backup (exact), or from the image's length and what the table covers (derived).");
    MEDIA = ("fat/bpb-media", BlocksMount, "the media byte is wrong", "FAT 1.03, BPB_Media",
        "Only F0 and F8 to FF are allowed, and entry 0 of the table holds the same byte. Linux refuses other values.",
        "From the backup (exact) or entry 0 of the tables (derived).");
    TABLE_SIZE = ("fat/bpb-table-size", BlocksMount, "the size of the allocation table is wrong", "FAT 1.03, BPB_FATSz16, BPB_FATSz32",
        "The second copy, the root and the data are looked for in the wrong place; FAT32 is told from FAT16 by which of the two fields is set.",
        "From the backup (exact), or the distance between the two copies (derived).");
    ROOT_CLUSTER = ("fat/bpb-root-cluster", BlocksMount, "the root folder's first cluster is wrong", "FAT 1.03, BPB_RootClus",
        "The volume mounts empty, shows another folder as its root, or is refused.",
        "From the backup (exact), or the cluster that reads as a root folder (derived).");
    EXT_FLAGS = ("fat/bpb-mirror-flags", Untidy, "the table mirroring flags mean nothing", "FAT 1.03, BPB_ExtFlags",
        "They can name one table as the only active one. A value that names a table that does not exist leads hosts that obey it astray; Linux ignores it.",
        "From the backup (exact), or 0: all tables are kept alike (derived).");
    VERSION = ("fat/bpb-version", BlocksMount, "the file system version is not 0.0", "FAT 1.03, BPB_FSVer",
        "Hosts should refuse a version they do not know. Linux does not look.",
        "Set to 0 (derived): no other version was ever published.");
    FSINFO_PLACE = ("fat/bpb-fsinfo-place", Untidy, "the FSInfo sector is not where the boot sector says", "FAT 1.03, BPB_FSInfo",
        "The free count is read from some other sector. A number beyond the end of the volume makes Linux refuse it.",
        "Set to the sector that has the signatures, usually 1 (derived).");
    BACKUP_PLACE = ("fat/bpb-backup-place", Untidy, "the backup boot sector is not where the boot sector says", "FAT 1.03, BPB_BkBootSec",
        "A repair would look for the backup in the wrong place.",
        "Set to the sector where the backup stands, usually 6 (derived).");
    BOOT_RESERVED = ("fat/boot-reserved-bytes", Untidy, "reserved bytes of the boot sector are not zero", "FAT 1.03, BPB_Reserved",
        "Hosts ignore them; the specification wants zeroes.",
        "Set to zero (derived).");
    BOOT_TEXT = ("fat/boot-type-text", Untidy, "the type text of the boot sector is wrong", "FAT 1.03, BS_FilSysType",
        "Only people read it, and some partitioning programs.",
        "Set to the text for this kind of FAT (derived).");
    BEYOND_IMAGE = ("fat/volume-beyond-image", RisksFiles, "the volume is longer than the image", "FAT 1.03, BPB_TotSec32",
        "The image was cut short while copying, or the medium has less room than it claims. Files in the missing part are lost in this image.",
        "Image the medium again. Choice `cut-image`: `keep` changes no length and frees nothing; `shrink` makes the volume as long as the image and cuts what lies behind (judged).");
    BACKUP_MISSING = ("fat/backup-missing", Untidy, "the backup boot sector is missing", "FAT 1.03, BPB_BkBootSec",
        "Nothing happens now; the next loss of sector 0 will be harder to mend.",
        "Written as a copy of the boot sector (exact).");
    BACKUP_DIFFERS = ("fat/backup-differs", Untidy, "the backup boot sector differs from the boot sector", "FAT 1.03, BPB_BkBootSec",
        "One of them was changed alone. Whoever restores the backup later gets a wrong geometry.",
        "Written as a copy of the believed boot sector (exact).");
    FSINFO_SIGNATURE = ("fat/fsinfo-signature", Untidy, "the FSInfo sector has lost its signatures", "FAT 1.03, FSI_LeadSig, FSI_StrucSig, FSI_TrailSig",
        "Hosts count free clusters themselves; Linux logs a warning at each mount.",
        "The sector is written anew with counted values (derived).");
    FSINFO_FREE = ("fat/fsinfo-free-count", Untidy, "the free cluster count is wrong", "FAT 1.03, FSI_Free_Count",
        "Hosts show a wrong amount of free space, and may refuse to write.",
        "Counted from the table (derived).");
    FSINFO_NEXT = ("fat/fsinfo-next-free", Untidy, "the next free cluster is out of range", "FAT 1.03, FSI_Nxt_Free",
        "Only a hint; some hosts search from there without looking.",
        "Set to the first free cluster (derived).");
    MEDIA_ENTRY = ("fat/media-entry", Untidy, "entry 0 of the table does not repeat the media byte", "FAT 1.03, FAT Data Structure",
        "Old hosts tell the medium by it.",
        "Set from the boot sector (derived).");
    END_ENTRY = ("fat/end-entry", Untidy, "entry 1 of the table is not an end mark", "FAT 1.03, FAT Data Structure",
        "Apart from its two flag bits it must be all ones.",
        "Set to the end mark (derived).");
    NOT_CLOSED = ("fat/not-closed", Untidy, "the volume was not closed properly", "FAT 1.03, FAT[1] and BS_Reserved1",
        "It was unplugged or the host stopped while it was open for writing. Hosts warn and ask for a check; faults elsewhere may come from this.",
        "The flag is cleared once nothing else is wrong (derived).");
    ERRORS_MET = ("fat/errors-met", Untidy, "a host met read or write errors on the medium", "FAT 1.03, FAT[1]",
        "The medium itself may be failing: image it before anything else.",
        "The flag is cleared (derived); the medium stays suspect.");
    COPIES_DIFFER = ("fat/copies-differ", RisksFiles, "the copies of the allocation table differ", "FAT 1.03, BPB_NumFATs",
        "One copy was damaged or not written. Linux reads only the first, other hosts may read another.",
        "Decided chain by chain: the copy whose chain fits the file's size or the folder's content is written to all (exact).");
    TABLE_UNREADABLE = ("fat/table-unreadable", RisksFiles, "part of the allocation table cannot be read", "FAT 1.03, FAT Data Structure",
        "The medium reports errors there. What the other copy says is used.",
        "The readable copy is written to the new image (exact).");
    INTO_FREE = ("fat/chain-into-free", RisksFiles, "a chain runs into a free cluster", "FAT 1.03, FAT Data Structure",
        "The file breaks off there, and the next write may take its clusters.",
        "Another copy of the table (exact), the size (derived), the missing piece among the lost chains, or the clusters that follow (judged); else cut.");
    INTO_BAD = ("fat/chain-into-bad", RisksFiles, "a chain runs into a cluster marked bad", "FAT 1.03, FAT Data Structure",
        "The file breaks off there.",
        "As for a chain into a free cluster.");
    INTO_RANGE = ("fat/chain-out-of-range", RisksFiles, "a chain runs out of the volume", "FAT 1.03, FAT Data Structure",
        "The entry holds a number that no cluster has. The file breaks off there.",
        "As for a chain into a free cluster.");
    CHAIN_LOOP = ("fat/chain-loop", RisksFiles, "a chain runs into itself", "FAT 1.03, FAT Data Structure",
        "The file repeats itself; a folder never ends, and hosts hang or report an error.",
        "Ended where the size says (derived), or continued with the missing piece (judged).");
    CROSS_LINKED = ("fat/cross-linked", RisksFiles, "two chains share clusters", "FAT 1.03, FAT Data Structure",
        "At most one of the files is right there. Deleting or changing one damages the other.",
        "Where another chain fits one of them, it gets it back. Else choice `cross-link`: `duplicate` gives each its own copy, `cut` leaves the clusters to the first.");
    CHAIN_SHORT = ("fat/chain-too-short", RisksFiles, "a file has fewer clusters than its size needs", "FAT 1.03, DIR_FileSize",
        "Reading past the end of the chain gives an error.",
        "The missing piece among the lost chains (judged); else choice `short-chain`: `shorten` sets the size to what is there, `leave` changes nothing.");
    CHAIN_LONG = ("fat/chain-too-long", Untidy, "a file has more clusters than its size needs", "FAT 1.03, DIR_FileSize",
        "Space is wasted, or the size is wrong and the end of the file is hidden.",
        "Choice `long-chain`: `trust-size` frees what is too much, `trust-chain` makes the file as long as its chain.");
    SIZE_ZERO = ("fat/size-missing", RisksFiles, "a file of size 0 has clusters", "FAT 1.03, DIR_FileSize",
        "The size was never written, or lost: the content is there but hosts show an empty file.",
        "Choice `no-size`: `trust-chain` makes the file as long as its chain, `trust-size` frees the clusters.");
    SIZE_WRONG = ("fat/size-wrong", RisksFiles, "a file's size is not where its content ends", "FAT 1.03, DIR_FileSize",
        "Hosts show a part of it, or nothing, or read past its end. What is read and written anew is cut.",
        "The size is set to where the content ends by its own structure, in the last cluster of the chain (judged), with choice `size-wrong`; `leave` changes nothing.");
    FIRST_MISSING = ("fat/first-cluster-missing", RisksFiles, "a file with a size has no first cluster", "FAT 1.03, DIR_FstClusLO",
        "Hosts show zeroes or an error.",
        "A lost chain of exactly its length, if there is only one (judged); else the size is set to 0.");
    FIRST_RANGE = ("fat/first-cluster-out-of-range", RisksFiles, "an entry begins outside the volume", "FAT 1.03, DIR_FstClusLO",
        "The file or folder cannot be opened.",
        "A lost chain or folder that fits exactly (judged); else the file becomes empty, the folder is removed.");
    FIRST_FREE = ("fat/first-cluster-free", RisksFiles, "an entry begins in a free cluster", "FAT 1.03, DIR_FstClusLO",
        "The table knows nothing of the file: its entries were lost, or it was written and never closed.",
        "A lost chain that fits exactly, else the run of clusters from there that no one else owns (judged).");
    FIRST_WRONG = ("fat/first-cluster-wrong", RisksFiles, "an entry begins in the wrong cluster", "FAT 1.03, DIR_FstClusLO",
        "The name shows something else's content.",
        "The lost chain or folder that fits exactly (judged).");
    LOST_CHAIN = ("fat/lost-chain", Untidy, "clusters are in use but belong to no file", "FAT 1.03, FAT Data Structure",
        "Files whose entries are gone, or clusters that were never given back. They take space, and may be what a customer misses.",
        "Choice `lost-chains`: `keep` makes each a file in the folder ADRIFT, with an extension where the content tells; `free` gives the clusters back.");
    FORMER = ("fat/older-volume-in-free-space", Remark, "folders of an older volume lie in free space", "FAT 1.03, FAT Directory Structure",
        "Another file system left that: most likely it was formatted over. What was on it before is named by nothing any more, but not all of it is written over.",
        "Left alone. Write nothing to the medium, and keep the image: each write can take an older file.");
    HOLLOW = ("fat/content-blank", RisksFiles, "nothing but one value stands where files should be", "FAT 1.03, FAT Data Structure",
        "From some place to the end of the medium everything reads as zero, or as FF: a medium with less room than it claims (false capacity), a copy that was cut off or failed, or a chip that died.",
        "Left alone: the content is not in this image. Image the medium again, with another reader; what reads blank again was never stored.");
    UNSEEN = ("fat/owner-not-in-image", Remark, "clusters in use may belong to files whose folders are not in the image", "FAT 1.03, FAT Data Structure",
        "The image ends before folders that the volume has. What they name cannot be told from what nobody owns.",
        "Left alone. Image the medium again.");
    LOST_FOLDER = ("fat/lost-folder", RisksFiles, "a folder belongs to no folder", "FAT 1.03, FAT Directory Structure",
        "Its entry is gone; all that lies in it is out of reach.",
        "It gets a new entry in the folder that its \"..\" names, or else in ADRIFT (derived); its name is lost.");
    NOT_FOLDER = ("fat/not-a-folder", RisksFiles, "a folder's first cluster holds no folder", "FAT 1.03, FAT Directory Structure",
        "What the folder held is out of reach under this name.",
        "A lost folder that belongs there (judged); else it is emptied, or its entry removed where it has no cluster of its own.");
    WRONG_TYPE = ("fat/wrong-type", RisksFiles, "a folder is marked as a file, or a file as a folder", "FAT 1.03, DIR_Attr",
        "Hosts refuse to open it, or show garbage names.",
        "The folder bit is set by what stands in its first cluster (derived).");
    DOT = ("fat/dot-entry", Untidy, "a folder's \".\" entry is wrong", "FAT 1.03, FAT Directory Structure",
        "It must be the first entry and name the folder's own cluster. Without it Linux can refuse the folder.",
        "Written from the folder's own first cluster (derived).");
    DOT_DOT = ("fat/dot-dot-entry", Untidy, "a folder's \"..\" entry is wrong", "FAT 1.03, FAT Directory Structure",
        "It must be the second entry and name the folder above, 0 for the root. Going up leads astray.",
        "Written from the folder above (derived).");
    STRAY_DOTS = ("fat/stray-dots", Untidy, "\".\" or \"..\" stands in a wrong place", "FAT 1.03, FAT Directory Structure",
        "Left over from another folder.",
        "Marked free (derived).");
    FOLDER_SIZE = ("fat/folder-size", Untidy, "a folder has a size", "FAT 1.03, DIR_FileSize",
        "Must be 0; hosts ignore it.",
        "Set to 0 (derived).");
    FOLDER_TAIL = ("fat/folder-tail", Untidy, "something stands behind a folder's end mark", "FAT 1.03, DIR_Name[0]",
        "Hosts that go on reading, such as Linux, show it as files.",
        "Set to zero (derived).");
    END_EARLY = ("fat/end-mark-early", RisksFiles, "an end mark hides files", "FAT 1.03, DIR_Name[0]",
        "Hosts that stop at it do not show the files behind it, although their chains are whole.",
        "The end mark becomes a free entry, so that the files behind it are seen again (derived).");
    JUNK_ENTRY = ("fat/junk-entry", RisksFiles, "a folder holds entries that no host wrote", "FAT 1.03, FAT Directory Structure",
        "Foreign data stands in the folder: names of control characters, clusters and dates out of range. What stood there is lost.",
        "Marked free (judged): they name nothing that exists.");
    LONG_ORDER = ("fat/long-name-order", Untidy, "the parts of a long name are numbered wrongly", "FAT 1.03, LDIR_Ord",
        "Hosts show the short name instead.",
        "Numbered by their place (derived).");
    LONG_CHECKSUM = ("fat/long-name-checksum", Untidy, "a long name's checksum is wrong", "FAT 1.03, LDIR_Chksum",
        "Hosts show the short name instead.",
        "Computed from the short name, which it fits (derived).");
    LONG_FIELDS = ("fat/long-name-fields", Untidy, "a part of a long name is not marked as one", "FAT 1.03, LDIR_Attr",
        "Hosts show the short name instead.",
        "Marked by the parts beside it (derived).");
    LONG_STRAY = ("fat/long-name-stray", Untidy, "parts of a long name belong to nothing", "FAT 1.03, Long File Name Implementation",
        "Left over when a host that knows no long names changed the folder. They only take space.",
        "Marked free (derived).");
    LONG_ILLEGAL = ("fat/long-name-illegal", RisksFiles, "a long name holds a forbidden character", "FAT 1.03, LDIR_Name1",
        "Some hosts cannot open the file, others hide the whole folder.",
        "The character becomes an underline (judged).");
    SHORT_ILLEGAL = ("fat/short-name-illegal", Untidy, "a short name holds an illegal character", "FAT 1.03, DIR_Name",
        "Some hosts cannot open or delete the file.",
        "The character becomes an underline, lower case is raised (judged).");
    NAME_TWICE = ("fat/name-twice", RisksFiles, "two entries of a folder have the same name", "FAT 1.03, DIR_Name",
        "Only one of them can be opened.",
        "The later one gets a new short name, and a number where the long names are alike (judged).");
    ATTRIBUTES = ("fat/attributes", RisksFiles, "an entry's attributes mean nothing", "FAT 1.03, DIR_Attr",
        "The two highest bits must be 0, and a label cannot be a folder. Linux hides an entry with the label bit.",
        "The bits that cannot be are cleared (derived).");
    LABEL_MISPLACED = ("fat/label-misplaced", Untidy, "a volume label where none may be", "FAT 1.03, ATTR_VOLUME_ID",
        "Only one is allowed, and only in the root folder.",
        "Marked free (derived); the first in the root stays.");
    LABEL_DIFFERS = ("fat/label-differs", Remark, "the boot sector and the root folder give different labels", "FAT 1.03, BS_VolLab",
        "Most hosts show the one in the root folder. Common after renaming; no fault.",
        "Left alone.");
    DELETED_IN_USE = ("fat/deleted-in-use", RisksFiles, "an entry is marked deleted, but its clusters are in use", "FAT 1.03, DIR_Name[0]",
        "Its chain is whole and belongs to nobody else: the mark is damage, or the delete was cut off half-way.",
        "Choice `deleted-in-use`: `restore` brings the file back, with its first letter computed from the long name's checksum where there is one; `free` finishes the delete.");
    HIDDEN_TREE = ("fat/hidden-tree", Remark, "ordinary files and folders are hidden", "FAT 1.03, DIR_Attr",
        "Malware does so, and often puts shortcuts or programs of the same names in their place. Hosts do not show what is hidden; all of it is there. Open none of what stands beside it.",
        "Choice `hidden-files`: `show` clears the hidden and system bits (judged); `leave` changes nothing.");
    BAD_CLUSTERS = ("fat/bad-clusters", Remark, "clusters are marked bad", "FAT 1.03, FAT Data Structure",
        "A host found them unreadable once. If there are many, or they grow, the medium is failing.",
        "Left alone.");
}
