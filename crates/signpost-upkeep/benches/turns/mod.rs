//! A machine that others use too is slow for seconds at a time: what is compared is measured in turns.

use std::time::Duration;

use criterion::measurement::WallTime;
use criterion::{BenchmarkGroup, Criterion};

/// How many turns; `cargo xtask bench` says it.
pub fn count() -> usize {
    std::env::var("SIGNPOST_BENCH_TURNS").map_or(1, |turns| turns.parse().unwrap())
}

/// A group whose benchmarks are short, since each is measured in every turn.
pub fn group<'a>(c: &'a mut Criterion, name: &str) -> BenchmarkGroup<'a, WallTime> {
    let mut group = c.benchmark_group(name);
    group.sample_size(20).warm_up_time(Duration::from_millis(500)).measurement_time(Duration::from_secs(1));
    group
}
