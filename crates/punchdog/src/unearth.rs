//! `punchdog unearth`: files that no folder names.

use crate::{
    args::{Args, KindOfFile, Unearth},
    choose,
    failure::{Failure, Verdict},
    finds::{self, About, Asked, SCHEMA, Volume, Writer},
    json,
    page::{self, Page},
    watch::Screen,
};
use punchdog_core::{
    diagnosis::{self, NotChosen, Target, Wish},
    files::{
        kinds::{self, Group},
        record::State,
    },
    medium::{Extent, Medium},
    partition::Scouting,
    unearth::{self, Complete, Earlier, Find, Outcome},
};
use schemars::JsonSchema;
use serde::Serialize;
use std::{cell::RefCell, collections::BTreeMap, fs::File, io, path::Path};

/// Kinds of what was found, with how many are complete, likely and not.
type Counts = BTreeMap<(State, &'static str), [u64; 3]>;

pub(crate) fn run(args: &Args, given: &Unearth) -> anyhow::Result<Verdict> {
    let image = choose::open_for(&given.target.image, &given.target.which)?;
    let screen = Screen::of_search();
    let earlier = standing(given, &image)?;
    let (targets, others) = targets(&image, given, &screen)?;
    let about = about(given, &image, &targets);
    if let Some(before) = &earlier
        && (before.asked != about.asked || before.volumes != about.volumes)
    {
        return Err(Failure::with(
            format!("{} was begun with other arguments", given.out.display()),
            "give the same arguments to go on with it, or name another file with --out",
        ));
    }
    let wish = unearth::Wish {
        groups: given.kind.iter().map(|kind| group(*kind)).collect(),
        range: Extent::new(about.asked.from, about.asked.to - about.asked.from),
        outside: about.asked.outside,
        others,
    };
    let counts = RefCell::new(Counts::new());
    let mut outcome = None;
    let goes_on = earlier.is_some();
    let put = |file: &mut File| -> io::Result<()> {
        let writer = RefCell::new(Writer::new(file, &about)?);
        let take = |find: Find| {
            count(&mut counts.borrow_mut(), &find);
            writer.borrow_mut().put(&find)
        };
        let from =
            if earlier.is_some() { kept(&given.out, &image, given, &take)? } else { Earlier::default() };
        let found = unearth::search(&image, &targets, &wish, from, &mut |find| take(find), &screen)
            .map_err(io::Error::other)?;
        outcome = Some(found);
        writer.into_inner().close(found)
    };
    let written = if goes_on || given.out.exists() {
        crate::workplace::replace(&given.out, put)
    } else {
        crate::workplace::write_new(&given.out, put)
    };
    drop(screen);
    written.map_err(|error| {
        Failure::with(
            format!("the search cannot be finished: {error}"),
            "make room or mend the cause, then run the same command again",
        )
    })?;
    let outcome = outcome.unwrap_or(Outcome { done: false, named: false, searched_to: 0 });
    let counts = counts.into_inner();
    if args.json {
        json::print(&summary(&about, &given.out, &counts, outcome))?;
    } else {
        text(given, &about, &counts, outcome)?;
    }
    if outcome.done {
        return Ok(Verdict::Fine);
    }
    Err(Failure::with(
        format!("stopped on request; what was found so far is in {}", given.out.display()),
        "run the same command again: it goes on where it stopped",
    ))
}

/// The search that FINDS.json holds, where it is to be gone on with.
fn standing(given: &Unearth, image: &choose::Image) -> anyhow::Result<Option<About>> {
    let (out, name) = (&given.out, given.out.display());
    let Ok(about) = out.symlink_metadata() else { return Ok(None) };
    if !about.is_file() || !finds::is_finds(out) {
        return Err(Failure::with(
            format!("{name} is no list of finds of ours, and is left alone"),
            "name another file with --out",
        ));
    }
    if given.replace {
        return Ok(None);
    }
    let before = finds::read_of(out, (&given.target.image, image), &mut |_| ())?;
    if before.done {
        return Err(Failure::with(
            format!("{name} is there already, of a search that was finished"),
            "name another file with --out, or add --replace to search again",
        ));
    }
    Ok(Some(before))
}

/// Passes the finds of an earlier search on, and says where it stood. Files whose structure broke are left out: they
/// are looked at again.
fn kept(
    out: &Path,
    image: &choose::Image,
    given: &Unearth,
    take: &dyn Fn(Find) -> io::Result<()>,
) -> io::Result<Earlier> {
    let mut earlier = Earlier::default();
    let mut failed = Ok(());
    let mut named = Vec::new();
    let about = finds::read_of(out, (&given.target.image, image), &mut |find| {
        let start = find.start();
        match (find.state, find.complete) {
            (State::Unnamed, Complete::No) => earlier.broken.extend(start),
            (state, complete) => {
                if complete != Complete::No {
                    for place in find.places().filter(|place| place.length > 0) {
                        earlier.claimed.insert(place.offset..place.end());
                    }
                }
                if state == State::Unnamed {
                    failed = std::mem::replace(&mut failed, Ok(())).and_then(|()| take(find));
                } else {
                    earlier.starts.extend(start);
                    named.push(find);
                }
            }
        }
    })
    .map_err(io::Error::other)?;
    failed?;
    // Named files come first and at once: where they were not all found, they are found anew.
    if about.named {
        named.into_iter().try_for_each(take)?;
        (earlier.named, earlier.searched_to) = (true, about.searched_to);
        Ok(earlier)
    } else {
        Ok(Earlier::default())
    }
}

/// Where something else stands, and what it is.
type Others = Vec<(Extent, &'static str)>;

/// The volumes whose space is searched: those that were asked for, or all there are; with what else stands on the medium that
/// an older one may lie beneath.
fn targets(image: &choose::Image, given: &Unearth, screen: &Screen) -> anyhow::Result<(Vec<Target>, Others)> {
    let others = |seen: &Scouting| {
        let over = seen.strangers.iter().filter(|stranger| stranger.name.was_laid_over());
        over.map(|stranger| (stranger.extent, stranger.name.title)).collect()
    };
    let target = &given.target;
    let wish = target.which.wish();
    match diagnosis::choose(image, wish, screen) {
        Ok((targets, seen)) => Ok((targets, seen.map_or_else(Vec::new, |seen| others(&seen)))),
        // Nothing is recognised: all of it is searched.
        Err(NotChosen::Nothing(seen)) if wish == Wish::All => Ok((Vec::new(), others(&seen))),
        Err(error) => Err(choose::in_words(error, &target.image, image)),
    }
}

fn about(given: &Unearth, image: &choose::Image, targets: &[Target]) -> About {
    let volumes = targets
        .iter()
        .map(|target| Volume {
            kind: target.volume.kind().name().to_owned(),
            offset: target.extent.offset,
            bytes: target.volume.bytes(),
        })
        .collect();
    let kinds = given.kind.iter().map(|kind| group(*kind).name().to_owned()).collect();
    let to = given.to.unwrap_or(image.len()).min(image.len());
    let asked =
        Asked { kinds, from: given.from.unwrap_or(0).min(to), to, outside: !given.target.which.narrows() };
    let image = finds::source(&given.target.image, image);
    About { schema: SCHEMA.to_owned(), image, volumes, asked, ..About::default() }
}

/// The group that an argument means.
pub(crate) fn group(kind: KindOfFile) -> Group {
    match kind {
        KindOfFile::Pictures => Group::Pictures,
        KindOfFile::Sound => Group::Sound,
        KindOfFile::Video => Group::Video,
        KindOfFile::Documents => Group::Documents,
        KindOfFile::Archives => Group::Archives,
        KindOfFile::Other => Group::Other,
    }
}

fn count(counts: &mut Counts, find: &Find) {
    let kind = kinds::group(find.path.name(), &[]).name();
    let row = counts.entry((find.state, kind)).or_default();
    let column = match find.complete {
        Complete::Yes => 0,
        Complete::Likely => 1,
        Complete::No => 2,
    };
    row[column] += 1;
}

fn summary(about: &About, out: &Path, counts: &Counts, outcome: Outcome) -> Document {
    let rows = counts.iter().map(|((state, kind), [yes, likely, no])| Count {
        state: *state,
        kind,
        yes: *yes,
        likely: *likely,
        no: *no,
    });
    Document {
        schema: "punchdog.unearth/1",
        image: json::Image { path: about.image.path.clone(), bytes: about.image.bytes },
        finds: out.display().to_string(),
        counts: rows.collect(),
        done: outcome.done,
        searched_to: outcome.searched_to,
    }
}

/// The document of `unearth`.
#[derive(Serialize, JsonSchema)]
pub(crate) struct Document {
    #[schemars(extend("const" = "punchdog.unearth/1"))]
    schema: &'static str,
    image: json::Image,
    /// The file with the finds.
    finds: String,
    counts: Vec<Count>,
    /// All was searched.
    done: bool,
    /// How far content was searched.
    searched_to: u64,
}

/// Finds of a kind, by how complete they are.
#[derive(Serialize, JsonSchema)]
struct Count {
    state: State,
    kind: &'static str,
    yes: u64,
    likely: u64,
    no: u64,
}

fn text(given: &Unearth, about: &About, counts: &Counts, outcome: Outcome) -> anyhow::Result<()> {
    let mut page = Page::new();
    let image = &given.target.image;
    let all = counts.values().flatten().sum::<u64>();
    let kept = counts.values().map(|[yes, likely, _]| yes + likely).sum::<u64>();
    let (verdict, style) = match (all, outcome.done) {
        (_, false) => (format!("stopped; {} so far", page::count(all, "file", "files")), page::WARN),
        (0, true) => ("nothing was found".to_owned(), page::WARN),
        _ => (
            format!("{} found, {kept} of them whole or likely so", page::count(all, "file", "files")),
            page::GOOD,
        ),
    };
    let name = page::clean(&choose::file_name(image));
    page.head(&format!("{name} · {}", page::size(about.image.bytes)), &verdict, style);
    page.gap();
    page.say(&searched(about));
    for state in [State::Deleted, State::Older, State::Unnamed] {
        let rows: Vec<_> = counts.iter().filter(|((own, _), _)| *own == state).collect();
        if rows.is_empty() {
            continue;
        }
        page.gap();
        page.say(match state {
            State::Deleted => "Deleted: an entry or a record still says what they were.",
            State::Older => "Older: a file system that was on the medium before says what they were.",
            _ => "Unnamed: found by their content.",
        });
        for ((_, kind), [yes, likely, no]) in rows {
            let parts = [(yes, "complete"), (likely, "likely complete"), (no, "not complete")];
            let said: Vec<String> = parts
                .iter()
                .filter(|(count, _)| **count > 0)
                .map(|(count, word)| format!("{count} {word}"))
                .collect();
            page.beside(14, kind, page::STRONG, &said.join(", "));
        }
    }
    let (quoted, out) = (page::quoted(image), page::quoted(&given.out));
    let quoted = format!("{quoted}{}", given.target.which.again());
    let mut next = Vec::new();
    if all > 0 {
        next.push((format!("punchdog files {quoted} --finds {out}"), "lists them with the rest"));
        next.push((
            format!("punchdog salvage {quoted} --finds {out} --to SOMEWHERE-ELSE"),
            "copies them out, with the rest",
        ));
        let sheet = page::quoted(&page::beside(image, "", "html"));
        next.push((
            format!("punchdog files {quoted} --finds {out} --sheet {sheet}"),
            "a page with small pictures, for choosing",
        ));
    }
    if !next.is_empty() {
        page.next(&next);
    }
    page.print()
}

/// What was searched, in a sentence.
fn searched(about: &About) -> String {
    let volumes: Vec<String> = about
        .volumes
        .iter()
        .map(|volume| {
            let kind = volume.kind.to_uppercase().replace("EXFAT", "exFAT");
            if volume.offset == 0 { kind } else { format!("{kind} at byte {}", volume.offset) }
        })
        .collect();
    match (volumes.is_empty(), about.asked.outside) {
        (true, _) => "No volume is recognised: every sector was looked at.".to_owned(),
        (false, true) => format!(
            "Searched: what the files of the volume{} ({}) do not occupy, and what lies outside.",
            if volumes.len() == 1 { "" } else { "s" },
            volumes.join(", ")
        ),
        (false, false) => {
            format!("Searched: what the files of the volume ({}) do not occupy.", volumes.join(", "))
        }
    }
}
