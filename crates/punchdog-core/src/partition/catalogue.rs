//! Faults of partition tables.

use crate::report::finding::{
    Entry,
    Weight::{BlocksMount, Remark, RisksFiles, Untidy},
    catalogue,
};

catalogue! {
    TABLE_MISSING = ("partition/table-missing", BlocksMount, "there is no partition table", "UEFI 2.10, 5.2",
        "Sector 0 lists nothing, but volumes stand behind it. Hosts show an empty or uninitialised disk and offer to set it up anew.",
        "An MBR with an entry for each volume found is written (derived).");
    SIGNATURE = ("partition/signature", BlocksMount, "the partition table has lost its signature", "UEFI 2.10, 5.2.1, Signature",
        "55 AA is missing at the end of sector 0. Its entries are there and lead to volumes, but hosts take the disk for an empty one.",
        "The two bytes are written (exact); the entries stay as they are.");
    CHAIN_BROKEN = ("partition/chain-broken", BlocksMount, "the chain of the extended partition is broken", "none: custom of all systems",
        "Each logical volume is named by a link in front of it, and each link names the next. Where one is lost, hosts see none of the volumes behind it.",
        "The links are written anew from the volumes that are found and the links that are left (derived); no volume inside becomes a primary one.");
    STRIPED = ("partition/striped-member", BlocksMount, "the image is of one disk of a set", "none",
        "Several disks share the bytes of one in stripes. By itself one of them has a part of each file and each structure, and everything stands elsewhere than its tables say.",
        "Image the other disks too, and put the set together; with one missing, what it held counts as not read.");
    IMAGE_LATE = ("partition/image-late", BlocksMount, "the image begins late", "none",
        "Everything in it stands as many bytes too early: what was at the very beginning of the medium is missing.",
        "Image the medium again, from its first byte on: that is the cause, and what comes first. What a plan does instead is to make the best of what is there.");
    IMAGE_EARLY = ("partition/image-early", BlocksMount, "the image begins early", "none",
        "Something else stands in front, and all else as many bytes too late.",
        "Image the medium again, or cut the bytes in front off: that is the cause, and what comes first.");
    ENTRY_LONG = ("partition/entry-too-long", Untidy, "a partition entry reaches past the end of the medium, its volume does not", "UEFI 2.10, 5.2.1, SizeInLBA",
        "Linux cuts it short and says so in its log; other hosts may refuse it.",
        "The length is set to that of the volume (derived).");
    GPT_GONE = ("partition/gpt-gone", BlocksMount, "both copies of the GPT are gone", "UEFI 2.10, 5.3.2",
        "Only the protective entry in sector 0 is left of it, and that lists nothing. Hosts show an empty disk.",
        "A GPT with an entry for each volume found is written (derived), with the entries that are left where they make sense.");
    ENTRY_MISSING = ("partition/entry-missing", BlocksMount, "a volume is in no partition entry", "UEFI 2.10, 5.2.1",
        "Hosts do not see it. It was removed from the table, or its entry was overwritten.",
        "An entry with its place, length and type is written, in an MBR or in both copies of a GPT (derived).");
    ENDS_APART = ("partition/ends-apart", RisksFiles, "its end stands further behind its beginning than it is long", "none",
        "Bytes stand between the two that are not the volume's, or stand there twice: the partition was being moved when that was cut off, or the imager wrote a part twice. Files behind that place are read from other places.",
        "Check the volume: it says from which byte on, and how to lay the image out anew.");
    WRONG_START = ("partition/wrong-start", BlocksMount, "a partition entry points to the wrong place", "UEFI 2.10, 5.2.1, StartingLBA",
        "Where it points no volume begins; one stands nearby. Hosts show a RAW partition.",
        "Start and length are set to those of the volume (derived).");
    WRONG_LENGTH = ("partition/wrong-length", RisksFiles, "a partition entry is shorter than its volume", "UEFI 2.10, 5.2.1, SizeInLBA",
        "The end of the volume cannot be reached; writing near it fails.",
        "The length is set to that of the volume (derived).");
    WRONG_TYPE = ("partition/wrong-type", RisksFiles, "a partition entry has the wrong type", "UEFI 2.10, 5.2.1, OSType",
        "Linux does not look at it; other hosts give the volume no drive letter.",
        "The type is set to that of the volume (derived).");
    HIDDEN = ("partition/hidden", RisksFiles, "a partition is marked as hidden", "UEFI 2.10, 5.2.1, OSType",
        "A type with the hidden bit: some hosts give it no drive letter, although the volume is fine.",
        "The type without the hidden bit is written (derived).");
    BEYOND_IMAGE = ("partition/beyond-image", RisksFiles, "a partition entry reaches past the end of the image", "UEFI 2.10, 5.2.1, SizeInLBA",
        "The image was cut short while copying, or the medium has less room than it claims.",
        "Left alone: a full copy of the medium is what is needed.");
    GPT_PRIMARY = ("partition/gpt-primary", BlocksMount, "the primary GPT is damaged", "UEFI 2.10, 5.3.2",
        "Linux shows no partition of the disk; other hosts may use the backup at its end.",
        "Written from the backup GPT (exact).");
    GPT_BACKUP = ("partition/gpt-backup", Untidy, "the backup GPT is damaged or not at the end", "UEFI 2.10, 5.3.2",
        "Nothing happens now; the next loss of the first sectors will be harder to mend. Usual for images that are longer or shorter than their disk was.",
        "Written from the primary GPT (exact).");
    GPT_PROTECTION = ("partition/gpt-protection", BlocksMount, "the protective MBR of a GPT is missing", "UEFI 2.10, 5.2.3",
        "Linux does not look for a GPT without it; old hosts take the disk for an empty one.",
        "Written as the specification has it (derived).");
    OTHER_SECTORS = ("partition/other-sectors", BlocksMount, "the partition table counts in other sectors than the reader has", "UEFI 2.10, 5.2.1, StartingLBA",
        "It was written through a reader or bridge with sectors of another size. Through this one hosts look for the volumes in the wrong places, or for a GPT where none stands.",
        "Left alone: use a reader like the one that it was written through.");
    MANAGED = ("partition/managed", Remark, "a volume manager has divided the disk", "none: custom of hosts",
        "Its own database, at the end of the disk, says where the volumes are; the entry only covers them. Hosts without that manager show nothing, or one volume.",
        "Left alone: with another type or further entries the host would not find its volumes any more.");
    UNKNOWN = ("partition/unknown-content", Remark, "a partition entry leads to something that is not known here", "none",
        "Another file system, an encrypted one, or a volume whose beginning is gone beyond recognition.",
        "Left alone: neither the entry nor what it leads to is written over.");
    OLDER = ("partition/older-volume", Remark, "an older volume begins in front of a listed one and reaches into it", "none",
        "The medium was divided anew and the old beginning was left. What is listed and found in its place stands over it.",
        "Left alone: no host looks there. Where its files were not written over, files and salvage read them by --at with --inside.");
    BENEATH = ("partition/written-over", Remark, "something else was written over its beginning, and it reaches out behind that", "none",
        "The image of another medium was written to this one. Hosts show what was written last.",
        "Left alone: what was written last would be lost. check, files, salvage and plan take the older volume by --at with --inside.");
    RIVAL = ("partition/rival-volumes", RisksFiles, "two volumes claim the same bytes", "none",
        "The medium was divided anew, and the table that says which volume is in use is gone. Each may read as sound; only one is what its owner means.",
        "Copy the files of both out first. Choice `in-use`: `none` writes no table and mends neither; the byte where one of them begins lists that one (derived), and mends it.");
    BLANK = ("partition/blank", Remark, "the image holds nothing but one byte value", "none",
        "Zeroes: a dead controller, a drive that was erased, or an image of the wrong device. FF: erased flash.",
        "Nothing can be mended. Image the medium again, with another reader, before giving up.");
}
