//! What people are shown of pools and machines.

use super::handle::{Now, PoolNow};
use crate::clock::words_seen_at;
use ordotaxis_core::pool::{Machine, Stage};
use ordotaxis_wire::fleet::DoingView;
use ordotaxis_wire::pool::{MachineView, PoolView};
use ordotaxis_wire::{moment, words};

/// What machines cost and did is summed up over so long.
pub(crate) const DAY_MS: i64 = 24 * 60 * 60 * 1000;

/// All pools. `gone` are machines that went within the last day.
pub(crate) fn pool_views(now: &Now, gone: &[Machine], at: i64) -> Vec<PoolView> {
    now.pools.iter().map(|pool| pool_view(pool, now, gone, at)).collect()
}

fn pool_view(pool: &PoolNow, now: &Now, gone: &[Machine], at: i64) -> PoolView {
    let name = &pool.row.name;
    let there: Vec<&Machine> = now.machines.values().filter(|machine| machine.pool == *name && machine.stage != Stage::Gone).collect();
    let count =
        |stages: &[Stage]| u32::try_from(there.iter().filter(|machine| stages.contains(&machine.stage)).count()).unwrap_or(u32::MAX);
    let day: Vec<&Machine> = there.iter().copied().chain(gone.iter().filter(|machine| machine.pool == *name)).collect();
    let cost: u64 = day.iter().filter_map(|machine| machine.cost(at)).fold(0, u64::saturating_add);
    let (why, troubled) = why(pool, &there, at);
    let learnt = pool.pool.usual_start();
    PoolView {
        name: name.clone(),
        settings: pool.settings.clone(),
        from_file: pool.row.from_file,
        set_by: pool.row.set_by.clone(),
        ended: pool.row.ended,
        coming: count(&[Stage::Wanted, Stage::Made]),
        waiting: count(&[Stage::Registered]),
        busy: count(&[Stage::Busy]),
        leaving: count(&[Stage::Leaving]),
        why,
        troubled,
        cost_day: pool.settings.price.map(|_| money(cost)),
        made_day: u32::try_from(day.iter().filter(|machine| machine.made_at.is_some()).count()).unwrap_or(u32::MAX),
        jobs_day: day.iter().map(|machine| machine.jobs).sum(),
        usual_start_ms: (learnt != pool.pool.rules.start).then_some(learnt),
    }
}

/// What a pool does, in a sentence; and whether something is wrong.
fn why(pool: &PoolNow, there: &[&Machine], at: i64) -> (String, bool) {
    let clock = |moment| words_seen_at(at, moment);
    if let Some(trouble) = &pool.pool.trouble {
        let again = if trouble.until > at {
            format!("; it is tried again at {}", clock(trouble.until))
        } else {
            "; it is being tried again".into()
        };
        return (format!("it could not make a machine: {}{again}", trouble.why), true);
    }
    if let Some(why) = &pool.pool.unlisted {
        return (format!("its provider does not say what there is: {why}"), true);
    }
    if pool.row.ended {
        return (format!("it has ended; {} of its machines are leaving", there.len()), false);
    }
    let most = pool.pool.rules.most;
    if there.len() >= most {
        return (format!("it is at its most of {most}"), false);
    }
    if there.iter().any(|machine| machine.is_coming()) {
        let usual = pool.pool.usual_start();
        let known =
            if usual == pool.pool.rules.start { String::new() } else { format!(", which usually takes {}", words::duration(usual)) };
        return (format!("machines are coming{known}"), false);
    }
    match there.is_empty() {
        true => ("nothing that it could do queues".into(), false),
        false => (format!("{} of at most {most} are there", there.len()), false),
    }
}

fn money(millionths: u64) -> f64 {
    #[expect(clippy::cast_precision_loss, reason = "so much money is not counted to the last millionth")]
    let whole = millionths as f64;
    whole / 1_000_000.0
}

/// One machine, and what it does now.
pub(crate) fn machine_view(machine: &Machine, doing: Vec<DoingView>, at: i64) -> MachineView {
    MachineView {
        id: machine.id.clone(),
        pool: machine.pool.clone(),
        stage: machine.stage,
        since: moment(machine.since),
        why: machine.why.clone(),
        wanted_at: moment(machine.wanted_at),
        made_at: machine.made_at.map(moment),
        registered_at: machine.registered_at.map(moment),
        gone_at: machine.gone_at.map(moment),
        kept_until: machine.kept_until.map(moment),
        cores: machine.capacity.cores,
        memory_mib: machine.capacity.memory_mib,
        gpus: machine.capacity.gpus,
        jobs: machine.jobs,
        now: doing,
        cost: machine.cost(at).map(money),
        words: machine.words.clone(),
    }
}
