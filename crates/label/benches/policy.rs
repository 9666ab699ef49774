//! What it costs to read a policy and to ask it.
//!
//! With `MIVASK_POLICY=FILE` another policy than the tests' own, such as a distribution's.
#![expect(
    clippy::disallowed_methods,
    clippy::unwrap_used,
    reason = "a benchmark of a file that somebody names"
)]

use std::hint::black_box;

use criterion::{Criterion, criterion_group, criterion_main};
use mivask_label::{Cache, Policy};

fn policy(bench: &mut Criterion) {
    let named = std::env::var("MIVASK_POLICY").ok();
    let bytes = named.map_or_else(
        || include_bytes!("../tests/policy/containers.33").to_vec(),
        |file| std::fs::read(file).unwrap(),
    );
    let policy = Policy::read(&bytes).unwrap();
    bench.bench_function(&format!("read {} rules", policy.rules()), |bench| {
        bench.iter(|| Policy::read(black_box(&bytes)))
    });
    let label = |text: &str| policy.context(text).unwrap();
    let (source, target) = (label("system_u:system_r:init_t:s0"), label("system_u:object_r:var_log_t:s0"));
    let class = policy.class("file").unwrap().id();
    bench
        .bench_function("ask cold", |bench| bench.iter(|| policy.decide(black_box(&source), &target, class)));
    let mut cache = Cache::default();
    let numbers = (cache.number(&source), cache.number(&target));
    bench.bench_function("ask warm", |bench| {
        bench.iter(|| cache.decide(&policy, black_box(numbers.0), numbers.1, class))
    });
    bench.bench_function("ask warm, by label", |bench| {
        bench.iter(|| {
            let numbers = (cache.number(black_box(&source)), cache.number(&target));
            cache.decide(&policy, numbers.0, numbers.1, class)
        });
    });
}

criterion_group!(benches, policy);
criterion_main!(benches);
