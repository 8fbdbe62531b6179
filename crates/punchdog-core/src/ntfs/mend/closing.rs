//! What is done when nothing else is wrong any more: the log, the version, the dirty flag.

use super::{Job, displaced, writing::write_stream};
use crate::{
    arith::{Peek, Sat},
    medium::{Extent, MediumError},
    mending::step::{Provenance, Step},
    ntfs::{
        catalogue as c, check,
        layout::{VOLUME_DIRTY, kind, own, put},
        log::Log,
        record::attributes,
        volume::Asleep,
    },
    report::finding::{Collector, Weight},
};

/// Bytes that are filled at once.
const PIECE: u64 = 1 << 20;

/// True where a step before this round changed something of the volume behind its boot sector.
fn changed_records(job: &mut Job<'_, '_, '_, '_>) -> bool {
    let place = job.window.place();
    let (from, to) = (place.offset.plus(512), place.offset.plus(job.believed.copy_place()));
    let within = |extent: &Extent| extent.end() > from && extent.offset < to;
    job.window.overlay().changed().iter().any(within)
}

/// An empty log, where what stands there is none, or a host that replayed it would write over what was mended.
pub(super) fn log(job: &mut Job<'_, '_, '_, '_>) -> Result<(), MediumError> {
    let survey = job.survey;
    let state = survey.log;
    if !matches!(state, Log::InUse | Log::Garbage) {
        return Ok(());
    }
    if survey.asleep == Asleep::Yes {
        let taken = job.choices.ask(
            "hibernated",
            "A host sleeps on this volume: when it wakes, it writes what it remembers over any repair. Wake it and shut it down fully, if that can still be done. What shall be done with this image?",
            &[
                ("leave", "the log and the hibernation file stay as they are; the host can be woken".to_owned()),
                ("reset", "the log is emptied: the host must not be woken any more".to_owned()),
            ],
            vec!["hiberfil.sys".to_owned()],
        );
        if taken != "reset" {
            return Ok(());
        }
    }
    let garbage = state == Log::Garbage;
    let (leaves, resets) = if garbage {
        ("it stays as it is, and the volume can be read only", "hosts begin a new one")
    } else {
        (
            "a host replays it at its next mount for writing",
            "changes that wait in it are dropped: the last minute before the accident",
        )
    };
    let (leave, reset) = (("leave", leaves.to_owned()), ("reset", resets.to_owned()));
    let must = garbage || changed_records(job);
    let options = if must { [reset, leave] } else { [leave, reset] };
    let taken = job.choices.ask(
        "log",
        if garbage {
            "$LogFile holds no log: hosts mount for reading only until it is emptied. What shall be done?"
        } else if must {
            "$LogFile was not closed: replaying it would write over what is mended. What shall be done?"
        } else {
            "$LogFile was not closed: changes may wait in it. What shall be done?"
        },
        &options,
        Vec::new(),
    );
    if taken != "reset" {
        return Ok(());
    }
    let Some((_, first, map)) = displaced::content(survey, own::LOG, "") else { return Ok(()) };
    let length = first.size.min(map.len());
    let step = Step::new(
        "log-reset",
        "fill $LogFile with FF: hosts take that for an empty log",
        Provenance::Judged,
        "what hosts write themselves when they have replayed it",
        &[&c::LOG_IN_USE, &c::LOG_GARBAGE],
    )
    .or(if garbage {
        "leave it: what waited in it may yet be told by somebody"
    } else {
        "leave it, and let a host replay it first"
    });
    job.steps.run(job.window, step, |window| {
        let mut at = 0_u64;
        while at < length {
            let many = PIECE.min(length.minus(at));
            write_stream(window, &map, at, &vec![0xFF; many.size()])?;
            at = at.plus(many);
        }
        Ok(())
    })
}

pub(super) fn mend(job: &mut Job<'_, '_, '_, '_>) -> Result<(), MediumError> {
    let about = job.survey.about.clone();
    let Some((major, minor)) = about.version else { return Ok(()) };
    if !matches!((major, minor), (1, 1 | 2) | (3, 0 | 1)) && job.survey.records.live(own::SECURE).is_some() {
        let step = Step::new(
            "volume-version",
            format!("set the volume's version from {major}.{minor} to 3.1"),
            Provenance::Derived,
            "it has $Secure and $Extend, which came with version 3",
            &[&c::VERSION],
        );
        job.edit(own::VOLUME, step, |record| set_info(record, 8, &[3, 1]))?;
    }
    if about.flags & VOLUME_DIRTY == 0 || !job.steps.is_empty() {
        return Ok(());
    }
    let mut collector = Collector::default();
    let subject =
        check::Subject { medium: job.window, believed: job.believed, boot: job.boot, survey: job.survey };
    check::check(&subject, &mut collector);
    let others = collector.into_sorted();
    let others = others.iter().any(|finding| finding.weight < Weight::Remark && finding.entry != &c::DIRTY);
    if others {
        return Ok(());
    }
    let step = Step::new(
        "dirty-cleared",
        "clear the dirty flag in $Volume",
        Provenance::Derived,
        "nothing else is wrong any more",
        &[&c::DIRTY],
    );
    let flags = (about.flags & !VOLUME_DIRTY).to_le_bytes();
    job.edit(own::VOLUME, step, |record| set_info(record, 10, &flags))
}

/// Sets bytes of `$VOLUME_INFORMATION`.
fn set_info(record: &mut [u8], at: usize, bytes: &[u8]) -> bool {
    let (list, _) = attributes(record);
    let Some(info) = list.iter().find(|a| a.kind() == kind::VOLUME_INFO && a.resident()) else {
        return false;
    };
    let at = info.value_at().plus(at);
    let _ = record.part(at, bytes.len());
    put(record, at, bytes);
    true
}
