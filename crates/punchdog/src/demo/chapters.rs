//! The commands of the demo, chapter by chapter, each with the exit status that it must have.

type Job<const N: usize> = [(&'static [&'static str], i32); N];

/// The job on the nest camera's card.
pub(super) const CAMERA: Job<7> = [
    (&["scout", "nest-camera.img"], 1),
    (&["check", "nest-camera.img"], 1),
    (&["explain", "nest-camera.img"], 1),
    (&["salvage", "nest-camera.img", "--to", "saved"], 0),
    (&["plan", "nest-camera.img", "--out", "nest-camera.plan.json"], 0),
    (
        &["apply", "nest-camera.plan.json", "--image", "nest-camera.img", "--copy", "nest-camera.mended.img"],
        0,
    ),
    (&["check", "nest-camera.mended.img"], 0),
];

/// The job on the card that was formatted by mistake.
pub(super) const FORMATTED: Job<4> = [
    (&["explain", "formatted-card.img"], 0),
    (&["unearth", "formatted-card.img", "--out", "formatted-card.finds.json"], 0),
    (&["salvage", "formatted-card.img", "--finds", "formatted-card.finds.json", "--to", "unearthed"], 0),
    (
        &[
            "files",
            "formatted-card.img",
            "--finds",
            "formatted-card.finds.json",
            "--sheet",
            "formatted-card.html",
        ],
        0,
    ),
];

/// The job on the card that fails in places.
pub(super) const FAILING: Job<6> = [
    (&["explain", "weather-mast.img", "--unreadable", "weather-mast.surface.json"], 0),
    (&["map", "weather-mast.img", "--unreadable", "weather-mast.surface.json"], 0),
    (&["salvage", "weather-mast.img", "--unreadable", "weather-mast.surface.json", "--to", "mast-saved"], 1),
    (
        &[
            "plan",
            "weather-mast.img",
            "--unreadable",
            "weather-mast.surface.json",
            "--out",
            "weather-mast.plan.json",
        ],
        0,
    ),
    (
        &[
            "apply",
            "weather-mast.plan.json",
            "--image",
            "weather-mast.img",
            "--copy",
            "weather-mast.mended.img",
        ],
        0,
    ),
    (
        &[
            "report",
            "weather-mast.img",
            "--unreadable",
            "weather-mast.surface.json",
            "--plan",
            "weather-mast.plan.json",
            "--copy",
            "weather-mast.mended.img",
            "--saved",
            "mast-saved",
            "--job",
            "Skerry Point, card of the weather mast",
            "--out",
            "weather-mast.html",
        ],
        0,
    ),
];

/// What comes after a repair, and where there is none: is it what it was, a fresh file system, many images, and what to
/// try outside a volume that is sound.
pub(super) const AFTERWARDS: Job<7> = [
    (&["compare", "nest-camera.sound.img", "nest-camera.mended.img"], 0),
    (&["compare", "weather-mast.mended.img", "mast-saved"], 0),
    (&["format", "tide-logger.img", "--copy", "tide-logger.fresh.img", "--as", "fat32"], 2),
    (&["salvage", "tide-logger.img", "--to", "tide-saved"], 0),
    (
        &[
            "format",
            "tide-logger.img",
            "--copy",
            "tide-logger.fresh.img",
            "--as",
            "fat32",
            "--label",
            "TIDES",
            "--saved",
            "tide-saved",
        ],
        0,
    ),
    (
        &[
            "check",
            "nest-camera.mended.img",
            "weather-mast.mended.img",
            "tide-logger.fresh.img",
            "sound-recorder.sound.img",
        ],
        0,
    ),
    (&["explain", "office-disk.sound.img"], 0),
];
