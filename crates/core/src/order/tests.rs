//! The load order, by hand and at size.

use super::*;
use proptest::prelude::*;

fn id(text: &str) -> ItemId {
    ItemId::new(text).unwrap()
}

fn entry(name: &str, needs: &[&str], after: &[&str]) -> Entry {
    let ids = |list: &[&str]| list.iter().map(|n| id(n)).collect();
    Entry { id: id(name), rank: 0, needs: ids(needs), after: ids(after), before: Vec::new() }
}

fn names(ordered: &Ordered) -> Vec<&str> {
    ordered.order.iter().map(ItemId::as_str).collect()
}

#[test]
fn needs_come_first_and_hints_are_heard() {
    let entries = [entry("a", &["z"], &[]), entry("b", &[], &["a"]), entry("z", &[], &["nobody"])];
    assert_eq!(names(&order(&entries, &Pins::default(), &[]).unwrap()), ["z", "a", "b"]);
}

#[test]
fn an_unrelated_addition_moves_nothing() {
    let present = [id("m"), id("b"), id("x")];
    let mut entries = vec![entry("b", &[], &[]), entry("m", &[], &[]), entry("x", &[], &[])];
    assert_eq!(names(&order(&entries, &Pins::default(), &present).unwrap()), ["m", "b", "x"]);
    entries.push(entry("a", &[], &[]));
    assert_eq!(names(&order(&entries, &Pins::default(), &present).unwrap()), ["m", "b", "x", "a"]);
}

#[test]
fn a_hint_gives_way_and_a_need_does_not() {
    let entries = [entry("a", &["b"], &[]), entry("b", &[], &["a"])];
    let ordered = order(&entries, &Pins::default(), &[]).unwrap();
    assert_eq!(names(&ordered), ["b", "a"]);
    assert_eq!(ordered.given_way, [(id("a"), id("b"))]);
    let circle =
        order(&[entry("a", &["b"], &[]), entry("b", &["a"], &[]), entry("c", &["a"], &[])], &Pins::default(), &[])
            .unwrap_err();
    assert!(matches!(&circle, Circle::Needs { members, .. } if *members == [id("a"), id("b")]));
    assert!(
        circle.to_string().starts_with("a and b need each other in a circle (b needs a, a needs b), so"),
        "{circle}"
    );
}

#[test]
fn pins_beat_hints_and_not_needs() {
    let entries = [entry("a", &[], &["c"]), entry("b", &[], &[]), entry("c", &[], &[]), entry("d", &["b"], &[])];
    let ids = |list: &[&str]| list.iter().map(|n| id(n)).collect::<Vec<_>>();
    let mut pins = Pins { first: ids(&["a"]), ..Pins::default() };
    let ordered = order(&entries, &pins, &[]).unwrap();
    assert_eq!(names(&ordered), ["a", "b", "c", "d"]);
    assert_eq!((&ordered.why[0], &ordered.why[3]), (&Why::First, &Why::Needs(id("b"))));
    assert_eq!(ordered.given_way, [(id("c"), id("a"))], "the hint gives way to the roster");
    pins = Pins { last: ids(&["b"]), after: [(id("c"), ids(&["d", "gone"]))].into(), ..Pins::default() };
    assert_eq!(names(&order(&entries, &pins, &[]).unwrap()), ["b", "d", "c", "a"]);
    pins = Pins { fixed: ids(&["d", "gone", "c", "b"]), ..Pins::default() };
    let against = order(&entries, &pins, &[]).unwrap_err().to_string();
    assert!(against.contains("[order]") && against.contains('d') && against.contains('b'), "{against}");
    pins = Pins { fixed: ids(&["d", "b"]), ..Pins::default() };
    let against = order(&entries, &pins, &[]).unwrap_err();
    assert_eq!(against, Circle::Pin { before: id("d"), after: id("b") });
    pins = Pins { before: [(id("a"), ids(&["b"])), (id("b"), ids(&["a"]))].into(), ..Pins::default() };
    assert_eq!(order(&entries, &pins, &[]).unwrap_err(), Circle::Pins(ids(&["a", "b"])));
    assert_eq!(broken(&entries, &ids(&["d", "b"])), [(id("d"), id("b"))]);
}

#[test]
fn a_data_pack_to_the_front() {
    let mut entries = vec![
        entry("core", &[], &[]),
        entry("gull", &[], &[]),
        entry("lock", &[], &[]),
        entry("chest", &["lock"], &[]),
        entry("quarry", &[], &[]),
        entry("slate", &[], &["quarry"]),
    ];
    entries[0].rank = -1;
    entries[4].rank = 2;
    entries[5].rank = 2;
    let ids = |list: &[&str]| list.iter().map(|n| id(n)).collect::<Vec<_>>();
    let stood = ids(&["core", "gull", "lock", "chest", "quarry", "slate"]);
    let list = ids(&["slate", "core", "gull", "lock", "chest", "quarry"]);
    let pins = pins_for(&entries, &Pins::default(), &stood, &list);
    let pins = pins.unwrap();
    assert_eq!(pins.before, [(id("slate"), ids(&["core", "gull", "quarry"]))].into());
    let why = order(&entries, &pins, &stood).unwrap().why;
    assert_eq!((&why[0], &why[1]), (&Why::Ahead(id("core")), &Why::Pinned(id("slate"))));
}

#[test]
fn a_list_of_ones_own_becomes_few_pins() {
    let (entries, present) = many(97);
    let stood = order(&entries, &Pins::default(), &present).unwrap().order;
    let (mut tried, mut allowed) = (0, 0);
    for (from, to) in (0..97).flat_map(|from| [(from, (from * 31 + 5) % 97), (from, (from + 1) % 97)]) {
        let mut list = stood.clone();
        let one = list.remove(from);
        list.insert(to, one);
        if !broken(&entries, &list).is_empty() {
            continue;
        }
        allowed += 1;
        if let Some(pins) = pins_for(&entries, &Pins::default(), &stood, &list) {
            tried += 1;
            assert_eq!(order(&entries, &pins, &stood).unwrap().order, list);
            assert!(pins.fixed.is_empty() && pins.after.len() + pins.before.len() <= 4, "{pins:?}");
        }
    }
    assert!(allowed > 40 && tried * 3 > allowed * 2, "{tried} of {allowed}");
    let backwards: Vec<ItemId> = (0..9).rev().map(|n| id(&format!("i{n}"))).collect();
    let plain: Vec<Entry> = (0..9).map(|n| entry(&format!("i{n}"), &[], &[])).collect();
    assert_eq!(pins_for(&plain, &Pins::default(), &[], &backwards), None, "the list says it better");
}

/// A server of very many items, with needs, hints and kinds; the present order is by id.
fn many(count: usize) -> (Vec<Entry>, Vec<ItemId>) {
    let name = |n: usize| format!("i{n:05}");
    let one = |n: usize| {
        let other = |times: usize| name((n * times + 7) % count);
        let mut out = entry(&name(n), &[], &[]);
        out.rank = (n % 3) as i32;
        // needs lead to what has a smaller number times 7, so they go in no circle
        let deep = |n: usize| (n * 7919) % count;
        out.needs
            .extend([other(31), other(57)].iter().filter(|o| deep(o[1..].parse().unwrap()) < deep(n)).map(|o| id(o)));
        out.after.extend(n.is_multiple_of(4).then(|| id(&other(13))));
        out.before.extend(n.is_multiple_of(5).then(|| id(&other(17))));
        out
    };
    ((0..count).map(one).collect(), (0..count).map(|n| id(&name(n))).collect())
}

#[test]
fn hundreds_and_thousands_are_put_in_order_and_stay_there() {
    for count in [601, 2_003] {
        put_in_order_and_stays(count);
    }
}

fn put_in_order_and_stays(count: usize) {
    let (mut entries, present) = many(count);
    let ordered = order(&entries, &Pins::default(), &present).unwrap();
    assert_eq!(broken(&entries, &ordered.order), []);
    let place: BTreeMap<&ItemId, usize> = ordered.order.iter().enumerate().map(|(at, id)| (id, at)).collect();
    let hints = entries.iter().flat_map(|e| {
        let after = e.after.iter().map(|a| (a.clone(), e.id.clone()));
        after.chain(e.before.iter().map(|b| (e.id.clone(), b.clone())))
    });
    let (mut heard, mut gave_way) = (0, 0);
    for hint in hints.filter(|(from, to)| from != to) {
        let holds = place[&hint.0] < place[&hint.1];
        assert!(holds || ordered.given_way.contains(&hint), "{hint:?} is neither heard nor told");
        if holds { heard += 1 } else { gave_way += 1 }
    }
    assert!(heard > count / 4 && gave_way > 2, "{heard} {gave_way}");
    // one more moves nothing
    entries.push(entry("zz", &["i00001"], &[]));
    let again = order(&entries, &Pins::default(), &ordered.order).unwrap();
    let old: Vec<&ItemId> = again.order.iter().filter(|i| i.as_str() != "zz").collect();
    let moved = old.iter().zip(&ordered.order).filter(|(a, b)| **a != *b).count();
    assert_eq!(moved, 0);
}

proptest! {
    #[test]
    fn every_hard_edge_holds(pairs in prop::collection::vec((0..12usize, 0..12usize), 0..20), hints in prop::collection::vec((0..12usize, 0..12usize), 0..10), shift in 0..12usize) {
        let name = |n: usize| format!("i{n}");
        let mut entries: Vec<Entry> = (0..12).map(|n| entry(&name(n), &[], &[])).collect();
        for (a, b) in pairs.iter().filter(|(a, b)| a < b) {
            entries[*b].needs.push(id(&name(*a)));
        }
        for (a, b) in &hints {
            entries[*a].before.push(id(&name(*b)));
        }
        let present: Vec<ItemId> = (0..12).map(|n| id(&name((n * 5 + shift) % 12))).collect();
        let ordered = order(&entries, &Pins::default(), &present).unwrap();
        let place = |i: &ItemId| ordered.order.iter().position(|o| o == i).unwrap();
        prop_assert_eq!(ordered.order.len(), 12);
        for e in &entries {
            for need in &e.needs {
                prop_assert!(place(need) < place(&e.id));
            }
        }
        let mut shuffled = entries.clone();
        shuffled.reverse();
        prop_assert_eq!(&order(&shuffled, &Pins::default(), &present).unwrap().order, &ordered.order);
        prop_assert_eq!(&order(&entries, &Pins::default(), &ordered.order).unwrap().order, &ordered.order, "an order stays");
    }
}
