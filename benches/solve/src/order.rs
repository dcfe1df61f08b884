//! Times the load order against a plain topological sort of the same needs, which minds neither hints nor what stands.

use std::collections::HashSet;
use std::time::Instant;

use petgraph::algo::toposort;
use petgraph::graph::DiGraph;
use yalotheca_core::id::ItemId;
use yalotheca_core::order::{Entry, order};
use yalotheca_core::roster::Pins;

use crate::instance::Dice;

fn id(item: usize) -> ItemId {
    ItemId::new(&format!("i{item:05}")).unwrap_or_else(|_| unreachable!())
}

/// Items of three kinds with a few needs and hints each, none of which go in a circle.
fn entries(count: usize) -> Vec<Entry> {
    let mut dice = Dice(0x5EED_0003);
    // what has a smaller number here is read earlier
    let mut hidden: Vec<usize> = (0..count).collect();
    for at in (1..count).rev() {
        hidden.swap(at, dice.roll(at + 1));
    }
    let mut one = |item: usize| {
        let mut earlier = |times: usize| -> Vec<ItemId> {
            (0..times).map(|_| dice.roll(count)).filter(|o| hidden[*o] < hidden[item]).map(id).collect()
        };
        let (needs, after) = (earlier(4), earlier(1));
        Entry { id: id(item), rank: (hidden[item] * 3 / count) as i32, needs, after, before: Vec::new() }
    };
    (0..count).map(&mut one).collect()
}

fn best(mut run: impl FnMut()) -> f64 {
    let time = |_| {
        let begin = Instant::now();
        run();
        begin.elapsed().as_secs_f64() * 1000.0
    };
    (0..5).map(time).fold(f64::INFINITY, f64::min)
}

/// Prints the table.
pub fn table() {
    println!("| load order | ours | petgraph 0.8, needs alone | ours against it |");
    println!("|---|---|---|---|");
    for count in [200, 1_000, 5_000] {
        let all = entries(count);
        let by_id: Vec<ItemId> = all.iter().map(|e| e.id.clone()).collect();
        let settled = |entries: &[Entry], present: &[ItemId]| {
            order(entries, &Pins::default(), present).map(|o| o.order).unwrap_or_default()
        };
        let mut graph: DiGraph<(), ()> = DiGraph::new();
        let nodes: Vec<_> = all.iter().map(|_| graph.add_node(())).collect();
        let place = |id: &ItemId| by_id.binary_search(id).unwrap_or(0);
        for entry in &all {
            entry.needs.iter().for_each(|need| _ = graph.add_edge(nodes[place(need)], nodes[place(&entry.id)], ()));
        }
        let plain = best(|| drop(std::hint::black_box(toposort(&graph, None))));
        let new: HashSet<ItemId> = (0..10).map(|n| id(n * count / 10)).collect();
        let old: Vec<Entry> = all.iter().filter(|e| !new.contains(&e.id)).cloned().collect();
        let stands = settled(&old, &by_id);
        for (name, present) in [("stand in the order of their ids", &by_id), ("stand right, and 10 are new", &stands)] {
            let ours = best(|| drop(std::hint::black_box(settled(&all, present))));
            println!("| {count} {name} | {ours:.2} ms | {plain:.2} ms | {:.1} |", ours / plain);
        }
    }
}
