//! Images of one disk of a set that shares its bytes in stripes.

use super::{
    folder_with, json,
    left_out::in_partition,
    run,
    unearth::{content, on_exfat, on_fat, on_ntfs, sum},
};
use std::fs;

/// What disk `number` of `of` holds.
fn member(whole: &[u8], chunk: usize, number: usize, of: usize) -> Vec<u8> {
    whole.chunks(chunk).skip(number).step_by(of).flat_map(<[u8]>::to_vec).collect()
}

#[test]
fn one_disk_of_a_set_is_told_and_the_set_is_put_together() {
    let mut files = content(21);
    // Some in the root, so that not all hangs on one folder, which may be on another disk.
    let more = content(23).into_iter().filter(|(path, _)| path.ends_with("JPG")).take(14);
    files.extend(more.zip(0..).map(|((_, bytes), number)| (format!("Q{number:02}.JPG"), bytes)));
    let sums: Vec<String> = files.iter().map(|(_, bytes)| sum(bytes)).collect();
    let volumes = [
        ("FAT32", on_fat(512, &files)),
        ("FAT16", on_fat(2048, &files)),
        ("exFAT", on_exfat(4096, &files)),
        ("NTFS", on_ntfs(&files)),
    ];
    for (family, volume) in &volumes {
        let (mut found, mut alone_listed) = (0, 0);
        for (number, (chunk, of)) in
            [(4096, 2), (8192, 2), (16_384, 2), (65_536, 2), (4096, 3), (16_384, 3), (32_768, 3)]
                .into_iter()
                .enumerate()
        {
            let name = format!("{family}, {of} disks, stripes of {chunk}");
            let whole = if number % 2 == 0 { volume.clone() } else { in_partition(volume) };
            let disks: Vec<Vec<u8>> = (0..of).map(|number| member(&whole, chunk, number, of)).collect();
            let folder = folder_with("disk.img", &disks[0]);
            let dir = folder.path();
            for (number, disk) in disks.iter().enumerate().skip(1) {
                fs::write(dir.join(format!("disk{number}.img")), disk).unwrap();
            }
            let told = format!("one of {of} disks that share their bytes in stripes of {chunk}");
            let of_all = |command: &str| {
                let said = run(dir, &[command, "disk.img"]);
                (said.out + &said.err).split_whitespace().collect::<Vec<_>>().join(" ")
            };
            // Where the folders are on another disk, hardly anything tells; then nothing else is told either.
            if !of_all("scout").contains("in stripes of") {
                continue;
            }
            found += 1;
            for command in ["scout", "check", "explain", "files", "plan"] {
                let text = of_all(command);
                assert!(text.contains(&told), "{name}, {command}: {text}");
                assert!(
                    text.contains(&format!("--striped {chunk}:{of} --with -")),
                    "{name}, {command}: {text}"
                );
            }
            // With all of them nothing is missing.
            let set = format!("{chunk}:{of}");
            let mut words: Vec<String> =
                ["surface", "disk.img", "--striped", &set, "--list", "all.json", "--image", "all.img"]
                    .map(str::to_owned)
                    .to_vec();
            words.extend((1..of).flat_map(|number| ["--with".to_owned(), format!("disk{number}.img")]));
            let words: Vec<&str> = words.iter().map(String::as_str).collect();
            assert_eq!(json(dir, &words, 0)["unreadable_bytes"], 0, "{name}");
            assert!(fs::read(dir.join("all.img")).unwrap() == whole, "{name}: every byte is where it was");
            // With one alone nothing is called whole that is not.
            let alone =
                ["surface", "disk.img", "--striped", &set, "--list", "one.json", "--image", "one.img"];
            assert!(json(dir, &alone, 0)["unreadable_bytes"].as_u64().unwrap() > 0, "{name}");
            let listed = run(dir, &["files", "one.img", "--unreadable", "one.json", "--hash", "--json"]);
            // What stood on the other disks may have been all that tells what the volume is.
            if listed.status == 2 {
                continue;
            }
            alone_listed += 1;
            let list: serde_json::Value = serde_json::from_str(&listed.out).unwrap();
            let intact = list["files"].as_array().unwrap().iter().filter(|file| {
                file["state"] == "intact" && file["folder"] != true && file["path"] != "ballast"
            });
            for file in intact {
                assert!(sums.iter().any(|sum| file["sha256"] == **sum), "{name}: {}", file["path"]);
            }
        }
        assert!(found >= 2 && alone_listed >= 2, "{family}: {found} of 7 told, {alone_listed} listed alone");
    }
}

#[test]
fn an_image_that_was_cut_short_is_no_disk_of_a_set_and_its_files_are_what_they_are() {
    let files = content(22);
    let sums: Vec<String> = files.iter().map(|(_, bytes)| sum(bytes)).collect();
    for (family, volume) in
        [("FAT32", on_fat(512, &files)), ("exFAT", on_exfat(4096, &files)), ("NTFS", on_ntfs(&files))]
    {
        for whole in [volume.clone(), in_partition(&volume)] {
            // In the midst of the files, and behind them.
            let among = super::left_out::place(&whole, &files[4].1) / 4096 * 4096;
            for end in [among, whole.len() / 3 / 4096 * 4096, whole.len() / 2 / 4096 * 4096] {
                let folder = folder_with("card.img", &whole[..end]);
                let said = run(folder.path(), &["scout", "card.img", "--json"]);
                assert!(said.status < 2 && !said.out.contains("striped"), "{family}: {}", said.out);
                // What lies beyond the end speaks neither for nor against the rest.
                let said = run(folder.path(), &["check", "card.img", "--json"]);
                assert!(!said.out.contains("\"medium/"), "{family}, {end}: {}", said.out);
                let list = json(folder.path(), &["files", "card.img", "--hash"], 0);
                let right = |file: &serde_json::Value| sums.iter().any(|sum| file["sha256"] == **sum);
                let list = list["files"].as_array().unwrap();
                let wrong = list.iter().filter(|file| {
                    file["state"] == "intact"
                        && file["folder"] != true
                        && file["path"] != "ballast"
                        && !right(file)
                });
                assert_eq!(wrong.count(), 0, "{family}, {end}");
                // A folder's index can lie behind the end; the content is there all the same.
                let there = list.iter().filter(|file| right(file)).count();
                assert!(there >= if end == among { 3 } else { files.len() }, "{family}, {end}: {there}");
            }
        }
    }
}
