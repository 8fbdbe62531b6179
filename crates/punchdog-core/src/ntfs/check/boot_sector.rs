//! The boot sector and its copy.

use super::Subject;
use crate::{
    arith::{Peek, Sat},
    ntfs::{catalogue as c, geometry::Length, layout::BootSector},
    report::{
        finding::{Finding, Sink},
        wording::counted,
    },
};
use zerocopy::IntoBytes;

pub(super) fn check(subject: &Subject<'_>, sink: &mut dyn Sink) {
    let boot = subject.boot;
    let geometry = subject.believed.geometry;
    if boot.gone {
        sink.add(Finding::new(&c::BOOT_GONE, c::BOOT_GONE.title).at(0, 512).because(
            "Sector 0 is no NTFS boot sector.",
            "It should say where $MFT begins.",
            if boot.copy_fits {
                format!("Its copy at byte {} of the volume is whole.", boot.place)
            } else {
                "There is no copy of it: it has to be computed.".to_owned()
            },
        ));
    } else {
        for field in boot.fields.iter().filter(|field| field.wrong()) {
            let Some(entry) = field.entry else { continue };
            let is = field.primary.as_deref().map_or(String::new(), |bytes| field.text(bytes));
            sink.add(Finding::new(entry, entry.title).at(field.at.wide(), field.length.wide()).because(
                format!("{} is {is}.", field.field),
                format!("It should be {}: {}.", field.text(&field.believed), field.why),
                "",
            ));
        }
    }
    length(subject, sink);
    let (place, there) = (boot.place, subject.medium.len());
    let Some(copy) = &boot.copy else {
        if place <= there {
            sink.add(Finding::new(&c::NO_ROOM_FOR_COPY, c::NO_ROOM_FOR_COPY.title).at(place, 0).because(
                format!("What there is of it ends at its byte {there}."),
                format!("The copy should stand at byte {place} of the volume."),
                "",
            ));
        }
        return;
    };
    let named = BootSector::read(copy).is_some_and(|copy| copy.named());
    if !named {
        let other = boot.elsewhere.map_or(String::new(), |at| format!(" One stands at byte {at}."));
        sink.add(Finding::new(&c::COPY_GONE, c::COPY_GONE.title).at(place, 512).because(
            format!("The sector at byte {place} of the volume is no NTFS boot sector.{other}"),
            "The sector behind the last one that is counted is a copy of sector 0.",
            "If the boot sector is lost, it has to be computed.",
        ));
        return;
    }
    // Where the boot sector itself is to be mended, its copy is held against what it should be.
    let right = boot.believed.as_bytes();
    let wrong = boot.gone || boot.fields.iter().any(|field| field.wrong() && field.entry.is_some());
    let own = subject.believed.primary.as_ref().filter(|_| !wrong).map_or(right, |sector| sector.as_slice());
    let differing = copy.iter().zip(own).filter(|(one, other)| one != other).count();
    let first = copy.iter().zip(own).position(|(one, other)| one != other);
    let told = if wrong { !boot.copy_fits } else { differing > 0 };
    if let Some(first) = first.filter(|_| told) {
        let many = counted(differing.wide(), "byte", "bytes");
        sink.add(
            Finding::new(&c::COPY_DIFFERS, c::COPY_DIFFERS.title).at(place.plus(first.wide()), 1).because(
                format!("It differs in {many}, the first at its byte {first}."),
                "It should be a copy.",
                if copy.le64(48) == geometry.mft {
                    ""
                } else {
                    "It speaks of another volume, or of another format."
                },
            ),
        );
    }
}

/// The volume against the image.
fn length(subject: &Subject<'_>, sink: &mut dyn Sink) {
    let counted_bytes = subject.believed.geometry.counted();
    let there = subject.medium.len();
    if counted_bytes > there {
        sink.add(
            Finding::new(
                &c::BEYOND_IMAGE,
                format!("the volume has {counted_bytes} bytes, the image {there}"),
            )
            .at(there, counted_bytes.minus(there))
            .because(
                format!("What there is of it ends at its byte {there}."),
                match subject.believed.length {
                    Length::Partition(bytes) => format!("Its partition has {bytes} bytes."),
                    Length::Runs => format!("Its files lead up to byte {counted_bytes} of it, or further."),
                    Length::Told | Length::Image => format!("The volume has {counted_bytes} bytes."),
                },
                "What lies in between cannot be read.",
            ),
        );
    }
}
