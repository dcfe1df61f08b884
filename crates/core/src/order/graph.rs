//! Edges that go in no circle: each is refused that would close one.

use std::collections::BTreeSet;

/// A graph without circles. It keeps its nodes in an order that holds every edge, so that a new edge looks only at what
/// stands between its ends (the algorithm of Pearce and Kelly, 2006).
#[derive(Debug, Clone)]
pub(super) struct Graph {
    after: Vec<Vec<usize>>,
    before: Vec<Vec<usize>>,
    rank: Vec<usize>,
    /// Of each node: in which search it was met.
    met: Vec<usize>,
    searches: usize,
}

impl Graph {
    /// Returns a graph of so many nodes with these edges; `None` where they go in a circle. Of what may stand first, the least
    /// number does.
    pub(super) fn of(count: usize, edges: impl IntoIterator<Item = (usize, usize)>) -> Option<Self> {
        let mut out = Self {
            after: vec![Vec::new(); count],
            before: vec![Vec::new(); count],
            rank: vec![0; count],
            met: vec![0; count],
            searches: 0,
        };
        for (from, to) in edges {
            out.after[from].push(to);
            out.before[to].push(from);
        }
        let mut waits: Vec<usize> = out.before.iter().map(Vec::len).collect();
        let mut ready: BTreeSet<usize> = (0..count).filter(|node| waits[*node] == 0).collect();
        let mut ranks = 0..count;
        while let Some(node) = ready.pop_first() {
            out.rank[node] = ranks.next()?;
            for next in &out.after[node] {
                waits[*next] -= 1;
                if waits[*next] == 0 {
                    ready.insert(*next);
                }
            }
        }
        ranks.is_empty().then_some(out)
    }

    /// Adds an edge. Returns whether it could be: one that would close a circle is left out.
    pub(super) fn add(&mut self, from: usize, to: usize) -> bool {
        if self.before[to].contains(&from) {
            return true;
        }
        if self.rank[to] <= self.rank[from] {
            let Some(mut later) = self.behind(to, from) else { return false };
            let mut earlier = self.ahead(from, to);
            let rank = |node: &usize| self.rank[*node];
            later.sort_by_key(rank);
            earlier.sort_by_key(rank);
            let moved = [earlier, later].concat();
            let mut ranks: Vec<usize> = moved.iter().map(rank).collect();
            ranks.sort_unstable();
            for (node, rank) in moved.into_iter().zip(ranks) {
                self.rank[node] = rank;
            }
        }
        self.after[from].push(to);
        self.before[to].push(from);
        true
    }

    /// Whether a way leads from one node to another.
    pub(super) fn reaches(&mut self, from: usize, to: usize) -> bool {
        self.rank[from] <= self.rank[to] && self.behind(from, to).is_none()
    }

    /// Returns the nodes that an edge leads from to this one.
    pub(super) fn before(&self, node: usize) -> &[usize] {
        &self.before[node]
    }

    /// The nodes that are reached from one, up to the rank of another; none where that one is.
    fn behind(&mut self, from: usize, end: usize) -> Option<Vec<usize>> {
        self.searches += 1;
        let mut out = vec![from];
        self.met[from] = self.searches;
        let mut at = 0;
        while let Some(node) = out.get(at).copied() {
            if node == end {
                return None;
            }
            at += 1;
            for next in &self.after[node] {
                if self.rank[*next] <= self.rank[end] && self.met[*next] != self.searches {
                    self.met[*next] = self.searches;
                    out.push(*next);
                }
            }
        }
        Some(out)
    }

    /// The nodes from which one is reached, down to the rank of another.
    fn ahead(&mut self, to: usize, end: usize) -> Vec<usize> {
        self.searches += 1;
        let mut out = vec![to];
        self.met[to] = self.searches;
        let mut at = 0;
        while let Some(node) = out.get(at).copied() {
            at += 1;
            for next in &self.before[node] {
                if self.rank[*next] >= self.rank[end] && self.met[*next] != self.searches {
                    self.met[*next] = self.searches;
                    out.push(*next);
                }
            }
        }
        out
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use proptest::prelude::*;

    proptest! {
        #[test]
        fn an_edge_is_refused_only_where_it_closes_a_circle(edges in prop::collection::vec((0..15usize, 0..15usize), 0..60)) {
            let mut graph = Graph::of(15, []).unwrap();
            // what reaches what, by every way there is
            let mut ways = [[false; 15]; 15];
            for (from, to) in edges {
                let closes = from == to || ways[to][from];
                prop_assert_eq!(graph.reaches(to, from), closes);
                prop_assert_eq!(graph.add(from, to), !closes);
                if !closes {
                    for a in 0..15 {
                        for b in 0..15 {
                            ways[a][b] |= (a == from || ways[a][from]) && (b == to || ways[to][b]);
                        }
                    }
                }
                for (at, all) in ways.iter().enumerate() {
                    prop_assert!((0..15).all(|to| !all[to] || graph.rank[at] < graph.rank[to]));
                }
            }
            let kept = |at: usize| graph.after[at].iter().map(move |to| (at, *to));
            prop_assert!(Graph::of(15, (0..15).flat_map(kept)).is_some());
            let closed = (0..15).flat_map(kept).chain((0..15).flat_map(kept).map(|(from, to)| (to, from)));
            prop_assert_eq!(Graph::of(15, closed).is_none(), (0..15).any(|at| !graph.after[at].is_empty()));
        }
    }
}
