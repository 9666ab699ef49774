use mivask_trial::random::*; use mivask_trial::scenario::Kind;
fn main() {
    let a: Vec<String> = std::env::args().collect();
    let acts: usize = a[1].parse().unwrap(); let seed: u64 = a[2].parse().unwrap();
    let kinds: Vec<Kind> = if a.len() > 3 { a[3].split(',').map(|k| Kind::by_name(k).unwrap()).collect() } else { Kind::WEIGHTED.to_vec() };
    for kind in &kinds { if let Some(r) = kind_unavailable(*kind) { println!("{kind:?}: {r}"); } }
    let t = std::time::Instant::now();
    let r = run(&Plan { acts, seed, kinds, acts_a_scenario: 40, threads: 2 }, |_| {});
    match r {
        Err(e) => println!("error: {e}"),
        Ok(r) => {
            println!("{} checked in {:?}; {:?}; {:?}\nnot: {:?}", r.checked, t.elapsed(), r.outcomes, r.kinds, r.not_checked);
            if let Some(f) = r.failure {
                println!("{}\npredicted {:?} {:?}\n{:?}\nlast step {:?}", f.scenario.with_comments(&f.act, &[]), f.held.answer.outcome, f.held.answer.effect, f.held.result, f.held.answer.steps.last());
            }
        }
    }
}
