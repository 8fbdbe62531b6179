//! Every class of trouble with the medium itself, explained once.

use crate::report::finding::{
    Entry,
    Weight::{Remark, RisksFiles, Untidy},
    catalogue,
};

catalogue! {
    STRUCTURE = ("medium/unreadable-structure", RisksFiles, "part of a structure of the file system cannot be read", "the medium",
        "The medium gives no bytes there. What the structure says of files is taken from its second copy or worked out from the rest; nothing is concluded from what cannot be read.",
        "From the second copy (exact) or from other structures (derived), written onto the copy, which is on a good medium.");
    FOLDER = ("medium/unreadable-folder", RisksFiles, "part of a folder cannot be read", "the medium",
        "Files whose entries stood there are named by nothing that can be read. Their content may be there still.",
        "What the folder lost is not made up. What of its files can be found is kept without its name; punchdog unearth searches further.");
    FILE = ("medium/unreadable-file", RisksFiles, "part of a file cannot be read", "the medium",
        "The file keeps its length; the bytes that cannot be read are zeros in what is copied out.",
        "Nothing mends it. Try the medium again with another reader or port: punchdog surface asks only for what is still missing.");
    FREE = ("medium/unreadable-free", Untidy, "places that nothing stands in cannot be read", "the medium",
        "No file of the volume is hit. The medium fails there, and the next file that is written may be.",
        "Nothing on a good medium; on the same medium the clusters are marked bad (choice unreadable-places).");
    LOST = ("medium/not-read", Remark, "zeros stand in files for what could not be read", "the medium",
        "The copy was made from a medium that failed in places. What stood there is not in the copy; the undo journal beside it says where.",
        "Nothing mends it. Where the medium can still be read there, image it again and plan again.");
    WRAPS = ("medium/begins-again", RisksFiles, "the medium begins again before its end", "the medium",
        "It says that it is larger than it is (a false capacity). What was written behind its true end went over what stood before it.",
        "Nothing mends it. Copy out what stands before that place, open each file, and do not use the medium any more.");
    LEFT_OUT = ("medium/left-out", RisksFiles, "bytes are left out of the image", "the medium",
        "What could not be read was skipped while imaging, and its place was not filled: everything behind stands too early, and files are read from the places of others. Nothing behind the gap can be judged or mended as it stands.",
        "Image the medium again, with what cannot be read filled up. Where that cannot be had, put the gap back into a copy of the image.");
    INSERTED = ("medium/inserted", RisksFiles, "the image has bytes too many in its midst", "the medium",
        "A part of the medium stands in the image twice, or something that is not of it stands there: everything behind stands too late, and files are read from the places of others. A partition whose move was cut off looks so too. Nothing behind the place can be judged or mended as it stands.",
        "Take the bytes out of a copy of the image; what stands behind comes back to its place.");
    BLANK_STRETCH = ("medium/blank-stretch", RisksFiles, "a stretch that files begin in reads blank", "the medium",
        "The files have their names, sizes and clusters, and no content. It was never written, as where a copy was cut off before a host had written all it kept; or it was erased; or it could not be read while imaging and its place was left blank.",
        "Nothing mends it. Where the medium still exists, image those bytes again; copy the files from where they came from.");
    BLANK_INTERVALS = ("medium/blank-intervals", RisksFiles, "the volume reads blank at a regular distance", "the medium",
        "Each file and structure that reaches into one of these places lacks what stood there. A member of a set of disks that share the bytes in stripes looks so when it is missing, and so does what an imager made that jumped.",
        "Nothing mends it from what is here. Put the image together again with every member, or image those places again.");
    FOREIGN = ("medium/foreign-content", RisksFiles, "files do not begin as their names say", "the medium",
        "Hardly a file that was looked at begins as files of its kind do. What the folders say of places does not fit what stands there: the image may be of one member of a set of disks, or put together wrongly, or the structures are those of another time or another volume. Files that were encrypted where they stand look so too.",
        "Nothing is mended by this. Look whether the image is what it should be before anything else is done with it.");
    MARKED = ("medium/marked-bad", Remark, "places that cannot be read are marked bad", "the medium",
        "Nothing stands there, and hosts put nothing there.",
        "As it should be.");
    MARKED_READABLE = ("medium/marked-bad-but-readable", Remark, "clusters that are marked bad can be read", "the medium",
        "They were marked at some time, perhaps on another medium that the volume was copied from. The room is lost, nothing else.",
        "They are left as they are: whether a place can be trusted is not for one reading to say.");
}
