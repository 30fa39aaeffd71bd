//! Races between a change and a live session, all of them: a guard without sockets, with a store that answers when it is told to, a
//! client and a broker that are played, and a clock that stands still. Whatever the order of things, nobody acts by a right of which
//! the guard has seen that it was taken away, and nobody is kept from a right that it has all the while.

mod run;
mod world;

use run::{Event, Run};
use world::World;

/// Timers belong to a runtime; nothing else of it is used.
fn runtime() -> tokio::runtime::Runtime {
    tokio::runtime::Builder::new_current_thread().enable_time().start_paused(true).build().unwrap()
}

/// Goes through all orders of events. `next` says what can happen next; where that is nothing, the guard sees all that is true, and
/// what then is possible is tried. Gives how many orders there were.
fn explore(world: &World, next: impl Fn(&mut Run<'_>, &[Event]) -> Vec<Event>) -> usize {
    let mut path: Vec<(Event, Vec<Event>)> = Vec::new();
    let mut orders = 0;
    loop {
        let mut run = Run::new(world);
        let mut events: Vec<Event> = Vec::with_capacity(16);
        loop {
            let place = events.len();
            if place == path.len() {
                let mut possible = next(&mut run, &events);
                let Some(one) = possible.pop() else { break };
                path.push((one, possible));
            } else {
                // Whatever it makes ready it makes ready each time.
                next(&mut run, &events);
            }
            happen(&mut run, &mut events, path[place].0);
        }
        end(&mut run, &mut events);
        orders += 1;
        loop {
            let Some((event, rest)) = path.last_mut() else { return orders };
            if let Some(other) = rest.pop() {
                *event = other;
                break;
            }
            path.pop();
        }
    }
}

/// Gives all `beginnings` to as many threads as there are processors. Each has a world of its own.
fn explore_all<B: Send>(beginnings: Vec<B>, explore: impl Fn(&World, B) -> usize + Sync) -> usize {
    let beginnings = std::sync::Mutex::new(beginnings);
    let worker = || {
        let runtime = runtime();
        let _entered = runtime.enter();
        let world = World::new();
        let next = || beginnings.lock().unwrap().pop();
        std::iter::from_fn(next).map(|beginning| explore(&world, beginning)).sum::<usize>()
    };
    let threads = std::thread::available_parallelism().map_or(1, usize::from);
    std::thread::scope(|scope| {
        let all: Vec<_> = (0..threads).map(|_| scope.spawn(worker)).collect();
        all.into_iter().map(|each| each.join().unwrap_or_else(|panic| std::panic::resume_unwind(panic))).sum()
    })
}

fn happen(run: &mut Run<'_>, events: &mut Vec<Event>, event: Event) {
    events.push(event);
    if let Err(why) = run.happen(event) {
        panic!("{events:?}: {why}");
    }
}

/// Lets the guard see what is true, and tries what is possible then.
fn end(run: &mut Run<'_>, events: &mut Vec<Event>) {
    for event in [Event::Back, Event::Follow, Event::Connect, Event::Publish, Event::Deliver] {
        if run.possible(event) {
            happen(run, events, event);
        }
    }
}

/// Whether an event behind another makes an order that is not the same as one that is gone through anyway: what nobody looks at
/// between two changes that have nothing to do with each other, or between the store's going and coming back, did not happen, and
/// what a client does by its rights changes nothing for what is done next.
fn tells_anything(before: Option<Event>, event: Event) -> bool {
    use Event::{Adopt, Back, Deliver, Follow, Label, Lost, Publish};
    let Some(before) = before else { return true };
    let apart = |one: Event| matches!(one, Adopt | Label);
    match (before, event) {
        (Follow, Follow) | (Lost, Back) | (Back, Lost) | (Deliver, Publish) => false,
        (Adopt, Adopt) | (Label, Label) | (Publish, Publish) | (Deliver, Deliver) => false,
        (before, Lost | Back) => !before.is_change(),
        (before, event) if before.is_change() && event.is_change() => {
            before < event || !(apart(before) || apart(event))
        }
        _ => true,
    }
}

/// Which of some events are possible, and tell anything.
fn possible(run: &Run<'_>, events: &[Event], of: &[Event]) -> Vec<Event> {
    let told = |event: &Event| run.possible(*event) && tells_anything(events.last().copied(), *event);
    of.iter().copied().filter(told).collect()
}

#[test]
fn no_order_of_six_events_lets_anybody_act_by_a_right_that_was_seen_to_be_taken_away() {
    let orders = explore_all(Event::ALL.to_vec(), |world, first| {
        explore(world, |run, events| match events.len() {
            0 => possible(run, events, &[first]),
            6 => Vec::new(),
            _ => possible(run, events, &Event::ALL),
        })
    });
    assert!(orders > 100_000, "{orders} orders are not all that there are");
}

#[test]
fn nor_does_any_order_of_five_events_of_which_the_guard_sees_each_before_the_next() {
    use Event::Follow;
    let orders = explore_all(Event::ALL.to_vec(), |world, first| {
        explore(world, |run, events| match events.len() {
            10 => Vec::new(),
            0 => possible(run, events, &[first]),
            odd if odd % 2 == 1 => vec![Follow],
            _ => Event::ALL.into_iter().filter(|event| *event != Follow && run.possible(*event)).collect(),
        })
    });
    assert!(orders > 10_000, "{orders} orders are not all that there are");
}

#[test]
fn nothing_that_happens_while_a_client_comes_in_lets_it_in_by_a_right_that_was_seen_to_be_taken_away() {
    use Event::{Connect, ConnectOld, Disconnect, Resume, Step, Supersede};
    /// What may happen besides the steps of the client itself.
    const BESIDE: usize = 3;
    let beginnings: Vec<&[Event]> = vec![
        &[Connect],
        &[Supersede, Connect],
        &[Supersede, ConnectOld],
        &[Connect, Disconnect, Resume],
        // A session at the broker of which the guard knows nothing.
        &[Resume],
        &[Connect, Disconnect, Supersede, ConnectOld],
    ];
    let orders = explore_all(beginnings, |world, beginning| {
        explore(world, |run, events| {
            if let Some(event) = beginning.get(events.len()) {
                run.keep_at_broker(beginning.len() == 1 && *event == Resume);
                run.set_stepwise(events.len() + 1 == beginning.len());
                return vec![*event];
            }
            if !run.is_opening() {
                run.set_stepwise(false);
                return Vec::new();
            }
            let beside = events[beginning.len()..].iter().filter(|event| **event != Step).count();
            if beside == BESIDE { vec![Step] } else { possible(run, events, &Event::ALL) }
        })
    });
    assert!(orders > 20_000, "{orders} orders are not all that there are");
}

/// A run whose time passes when it is told to.
struct Time<'w> {
    run: Run<'w>,
    events: Vec<Event>,
    runtime: tokio::runtime::Runtime,
    /// How long the guard goes by what it knew last, in seconds.
    patience: u64,
}

impl<'w> Time<'w> {
    fn new(world: &'w World) -> Self {
        let runtime = runtime();
        let run = {
            let _entered = runtime.enter();
            Run::new(world)
        };
        let patience = u64::try_from(world.live.settings.guard.store_patience.seconds()).unwrap();
        Self { runtime, run, events: Vec::new(), patience }
    }

    fn pass(&self, seconds: u64) {
        self.runtime.block_on(tokio::time::advance(std::time::Duration::from_secs(seconds)));
    }

    /// Makes this happen; says whether the client has a session then.
    fn play(&mut self, next: &[Event]) -> bool {
        let _entered = self.runtime.enter();
        next.iter().for_each(|event| happen(&mut self.run, &mut self.events, *event));
        self.run.is_live()
    }

    fn watch_silence(&mut self) {
        let _entered = self.runtime.enter();
        self.run.watch_silence();
    }
}

#[test]
fn without_a_store_sessions_go_on_for_as_long_as_they_may_and_end_then() {
    use Event::{Back, Connect, Deliver, Disconnect, Follow, Lost, Publish};
    let world = World::new();
    let mut time = Time::new(&world);
    assert!(time.play(&[Connect, Follow, Lost, Follow]));
    time.pass(time.patience - 1);
    assert!(time.play(&[Follow, Publish, Deliver, Disconnect, Connect, Publish]), "who was known comes in again");
    time.pass(2);
    time.run.expect_ends();
    assert!(!time.play(&[Follow]), "it could not be asked for too long");
    assert!(!time.play(&[Connect]), "nobody comes in");
    assert!(time.play(&[Back, Follow, Connect, Publish]));
}

#[test]
fn a_store_that_does_not_answer_is_no_better_than_one_that_fails() {
    use Event::{Connect, Follow, Publish};
    let world = World::new();
    let mut time = Time::new(&world);
    assert!(time.play(&[Connect, Follow, Publish]));
    // The follower asked, and waits: no error tells anybody.
    time.pass(time.patience - 1);
    time.watch_silence();
    assert!(time.play(&[Publish]));
    time.pass(2);
    time.run.expect_ends();
    time.watch_silence();
    assert!(!time.run.is_live(), "for longer than the patience nobody has known");
    assert!(time.play(&[Follow, Connect, Publish]), "it answers again");
}

#[test]
fn a_store_that_was_put_back_lets_nobody_in_until_a_person_says_so() {
    use Event::{Connect, Disconnect, Follow, Hold, Publish, Release, Revoke};
    let runtime = runtime();
    let _entered = runtime.enter();
    let world = World::new();
    let mut run = Run::new(&world);
    let mut events = Vec::new();
    for event in [Connect, Publish, Follow] {
        happen(&mut run, &mut events, event);
    }
    let early = run.backup();
    for event in [Disconnect, Revoke, Follow, Connect] {
        happen(&mut run, &mut events, event);
    }
    assert!(!run.is_live());
    run.put_back(&early);
    assert!(!run.try_out(Connect), "the guard has seen that it was revoked, also before its follower looks");
    run.try_out(Follow);
    assert!(!run.try_out(Connect), "what the older store says of it is not believed");
    run.try_out(Follow);
    assert!(!run.try_out(Connect));
    run.accept();
    run.try_out(Follow);
    assert!(run.try_out(Connect), "a person said that the older store counts, and it says that the device may be here");
    // What changes from now on is seen again.
    run.try_out(Hold);
    run.try_out(Follow);
    assert!(!run.is_live());
    run.try_out(Release);
    run.try_out(Follow);
    assert!(run.try_out(Connect));

    // Put back to what it was before it was put back: nothing is missing, and nobody must say anything.
    let mut run = Run::new(&world);
    let early = run.backup();
    run.try_out(Hold);
    run.try_out(Follow);
    let late = run.backup();
    run.put_back(&early);
    run.try_out(Follow);
    assert!(!run.try_out(Connect));
    run.put_back(&late);
    run.try_out(Release);
    run.try_out(Follow);
    assert!(run.try_out(Connect));
}

#[test]
fn settings_that_come_while_a_client_comes_in_hold_for_its_session() {
    use Event::{Connect, Step};
    let runtime = runtime();
    let _entered = runtime.enter();
    let world = World::new();
    let steps = {
        let mut run = Run::new(&world);
        run.set_stepwise(true);
        run.try_out(Connect);
        let mut steps = 0;
        while !run.try_out(Step) {
            steps += 1;
        }
        assert_eq!(run.refused_publish(), Some(0x87), "it is told that it may not");
        steps
    };
    assert!(steps > 2, "{steps} steps are not all of a CONNECT");
    for before in 0..=steps {
        let mut run = Run::new(&world);
        run.set_stepwise(true);
        run.try_out(Connect);
        for _ in 0..before {
            run.try_out(Step);
        }
        run.reload("on_refusal = \"drop\"\n");
        for _ in 0..2 * steps + 4 {
            if run.possible(Step) {
                run.try_out(Step);
            }
        }
        run.set_stepwise(false);
        assert_eq!(run.refused_publish(), Some(0), "dropped, and acknowledged: {before} steps before the reload");
    }
}
