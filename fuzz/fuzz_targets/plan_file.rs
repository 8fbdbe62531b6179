//! Any bytes as a plan file, and a real one with its bytes struck and its seal put right.
#![no_main]

use libfuzzer_sys::fuzz_target;
use punchdog_core::{
    family::Kind,
    medium::{Extent, Medium, Memory},
    progress::Silent,
    repair::{measure::Subject, plan},
};
use punchdog_lab::fat;
use std::{collections::BTreeMap, sync::LazyLock};

static IMAGE: LazyLock<Vec<u8>> = LazyLock::new(|| {
    let mut bytes = fat::everyday(&fat::small(Kind::Fat12, 512, 512), 3).canvas;
    bytes[..512].fill(0);
    bytes
});
static PLAN: LazyLock<String> = LazyLock::new(|| {
    let image = Memory::new(IMAGE.clone());
    let whole = Subject::Volume(Extent::new(0, image.len()));
    plan::build(&image, "x", whole, BTreeMap::new(), &Silent).expect("a plan").to_json()
});

fuzz_target!(|bytes: &[u8]| {
    let image = Memory::new(IMAGE.clone());
    let text = if bytes.first() == Some(&b'{') {
        String::from_utf8_lossy(bytes).into_owned()
    } else {
        let mut text = PLAN.clone().into_bytes();
        punchdog_fuzz::strike(&mut text, bytes);
        String::from_utf8_lossy(&text).into_owned()
    };
    let _ = plan::Plan::from_json(&text);
    // As if its seal fitted: whoever edits plans on purpose can make one.
    if let Ok(plan) = serde_json::from_str::<plan::Plan>(&text) {
        let _ = plan.must_fit(&image, &Silent);
        let _ = plan.replay(&image);
    }
});
