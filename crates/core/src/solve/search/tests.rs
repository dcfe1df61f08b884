//! The search, held against trying every assignment, with clauses that come while something is decided.

use proptest::prelude::*;

use super::super::runs::{self, Runs};
use super::*;

/// So many items, each with so many places.
const ITEMS: u32 = 5;
const PLACES: u32 = 4;

/// A clause: items, each with the places that would do as bits.
type Bits = Vec<(u32, u8)>;

fn places(bits: u8) -> Runs {
    runs::of((0..PLACES).filter(|p| bits & (1 << p) != 0))
}

fn holds(clause: &Bits, at: &[u32]) -> bool {
    clause.iter().any(|(item, bits)| bits & (1 << at[*item as usize]) != 0)
}

/// All that there is, in the order in which the search tries it.
fn first(clauses: &[Bits]) -> Option<Vec<u32>> {
    let all = PLACES.pow(ITEMS);
    let nth = |n: u32| (0..ITEMS).rev().map(|item| n / PLACES.pow(item) % PLACES).collect::<Vec<u32>>();
    (0..all).map(nth).find(|at| clauses.iter().all(|c| holds(c, at)))
}

fn add(search: &mut Search, clause: &Bits, origin: Origin) {
    let terms: Vec<Term> =
        clause.iter().map(|(item, bits)| Term { item: *item, set: search.set(places(*bits)) }).collect();
    search.clause(&terms, origin);
}

/// Decides the items in their order, the least place first; every few decisions another clause comes.
fn solve(clauses: &[Bits], late_every: usize) -> Result<Vec<u32>, Vec<Origin>> {
    let mut search = Search::default();
    for _ in 0..ITEMS {
        search.item(PLACES, []);
    }
    let mut coming = (0..).zip(clauses);
    let early = if late_every == 0 { clauses.len() } else { clauses.len() / 3 };
    coming.by_ref().take(early).for_each(|(at, clause)| add(&mut search, clause, at));
    let mut decided = 0;
    loop {
        match search.follow() {
            Followed::Impossible(faults) => return Err(faults),
            Followed::Back(_) => continue,
            Followed::Rest => {}
        }
        let open = (0..ITEMS).find(|item| search.place(*item).is_none());
        if (open.is_none() || (late_every > 0 && decided % late_every == 0))
            && let Some((at, clause)) = coming.next()
        {
            add(&mut search, clause, at);
            decided += 1;
            continue;
        }
        let Some(item) = open else {
            return Ok((0..ITEMS).filter_map(|item| search.place(item)).collect());
        };
        decided += 1;
        let least = search.open(item)[0].0;
        search.decide(item, least);
    }
}

fn clauses() -> impl Strategy<Value = Vec<Bits>> {
    let clause = prop::collection::vec((0..ITEMS, 0..(1u8 << PLACES)), 0..5);
    prop::collection::vec(clause, 0..40)
}

proptest! {
    #![proptest_config(ProptestConfig::with_cases(3_000))]

    #[test]
    fn it_finds_the_first_there_is_or_who_is_at_fault(clauses in clauses(), late_every in 0..4usize) {
        match (solve(&clauses, late_every), first(&clauses)) {
            (Ok(found), least) => {
                prop_assert!(clauses.iter().all(|c| holds(c, &found)), "{found:?}");
                prop_assert_eq!(Some(found), least);
            }
            (Err(faults), least) => {
                prop_assert_eq!(least, None);
                // they alone leave no way
                let few: Vec<Bits> = faults.iter().map(|at| clauses[*at as usize].clone()).collect();
                prop_assert_eq!(first(&few), None, "{:?}", faults);
                // and a smallest set of them is one
                let claim = |c: &Bits| c.iter().map(|(item, bits)| (*item, places(*bits))).collect::<Claim>();
                let units: Vec<Vec<Claim>> = few.iter().map(|c| vec![claim(c)]).collect();
                let kept = least_of(&units);
                prop_assert!(!kept.is_empty());
                for without in 0..=kept.len() {
                    let some: Vec<Bits> =
                        kept.iter().enumerate().filter(|(at, _)| *at != without).map(|(_, unit)| few[*unit].clone()).collect();
                    prop_assert_eq!(first(&some).is_none(), without == kept.len(), "{:?}", some);
                }
            }
        }
    }

    #[test]
    fn sets_of_places_are_sets(a in any::<u8>(), b in any::<u8>()) {
        let set = |bits: u8| runs::of((0..8).filter(|p| bits & (1 << p) != 0));
        let (x, y) = (set(a), set(b));
        prop_assert_eq!(runs::both(&x, &y).collect::<Runs>(), set(a & b));
        prop_assert_eq!(runs::either(&x, &y), set(a | b));
        prop_assert_eq!(runs::rest(&x, 8), set(!a));
        prop_assert_eq!(runs::apart(&x, &y), a & b == 0);
        prop_assert_eq!(runs::inside(&x, &y), a & !b == 0);
        prop_assert!((0..8).all(|p| runs::has(&x, p) == (a & (1 << p) != 0)));
        prop_assert_eq!(runs::only(&x), (a.count_ones() == 1).then(|| a.trailing_zeros()));
    }
}

fn least_of(units: &[Vec<Claim>]) -> Vec<usize> {
    least(units, |_| PLACES, &mut 100_000)
}
