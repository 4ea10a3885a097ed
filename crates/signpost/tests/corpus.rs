//! The seeds of fuzzing, run once: what was found with them stays found.

#[path = "../../../fuzz/targets.rs"]
mod targets;

use std::path::Path;

#[test]
fn every_target_comes_back_from_every_seed() {
    let corpus = Path::new(env!("CARGO_MANIFEST_DIR")).join("../../fuzz/corpus");
    for (name, target) in targets::ALL {
        let folder = corpus.join(name);
        let seeds =
            std::fs::read_dir(&folder).unwrap_or_else(|error| panic!("{}: {error}", folder.display()));
        let mut count = 0;
        for seed in seeds {
            target(&std::fs::read(seed.unwrap().path()).unwrap());
            count += 1;
        }
        assert!(count > 0, "{name} has no seeds");
        target(&[]);
    }
}
