//! Loops in who-holds-whom graphs, found without recursion.

use crate::origin::Origin;

/// A node's neighbours, each with the place where the edge is written.
pub(super) type Edges = Vec<Vec<(usize, Origin)>>;

/// What a walk over the whole graph finds.
pub(super) struct LoopSearch {
    /// Every node, each after all that it leads to (save around loops).
    pub(super) postorder: Vec<usize>,
    /// Each loop once.
    pub(super) loops: Vec<Loop>,
}

/// A way from a node back to it.
pub(super) struct Loop {
    /// Its nodes, the first again at the end.
    pub(super) ring: Vec<usize>,
    /// Where each edge of it is written, the one that closes it at the end.
    pub(super) edges: Vec<Origin>,
}

/// Walks the graph depth first.
pub(super) fn walk(edges: &Edges) -> LoopSearch {
    #[derive(Clone, Copy, PartialEq)]
    enum Mark {
        New,
        OnPath,
        Done,
    }
    let mut marks = vec![Mark::New; edges.len()];
    let mut found = LoopSearch { postorder: Vec::with_capacity(edges.len()), loops: Vec::new() };
    for start in 0..edges.len() {
        if marks[start] != Mark::New {
            continue;
        }
        marks[start] = Mark::OnPath;
        let mut path = vec![(start, 0)];
        while let Some((node, next)) = path.last_mut() {
            let Some(&(to, _)) = edges[*node].get(*next) else {
                marks[*node] = Mark::Done;
                found.postorder.push(*node);
                path.pop();
                continue;
            };
            *next += 1;
            match marks[to] {
                Mark::New => {
                    marks[to] = Mark::OnPath;
                    path.push((to, 0));
                }
                Mark::OnPath => {
                    let from = path.iter().position(|(node, _)| *node == to).unwrap_or(0);
                    let mut ring: Vec<usize> = path[from..].iter().map(|(node, _)| *node).collect();
                    ring.push(to);
                    // Each node on the path has just passed the edge by which the path goes on.
                    let passed = path[from..].iter().map(|(node, next)| edges[*node][next - 1].1);
                    found.loops.push(Loop { ring, edges: passed.collect() });
                }
                Mark::Done => {}
            }
        }
    }
    found
}

#[cfg(test)]
mod tests {
    use proptest::collection::vec;
    use proptest::prelude::*;

    use super::{Edges, Loop, walk};
    use crate::origin::Origin;

    fn graph(arrows: &[(usize, usize)], nodes: usize) -> Edges {
        let mut edges: Edges = vec![Vec::new(); nodes];
        arrows.iter().for_each(|(from, to)| edges[*from].push((*to, Origin::default())));
        edges
    }

    /// Whether a node can come back to itself, by trying ways of every length.
    fn comes_back(edges: &Edges, start: usize) -> bool {
        let mut reached = vec![false; edges.len()];
        let mut queue: Vec<usize> = edges[start].iter().map(|(to, _)| *to).collect();
        while let Some(node) = queue.pop() {
            if !std::mem::replace(&mut reached[node], true) {
                queue.extend(edges[node].iter().map(|(to, _)| *to));
            }
        }
        reached[start]
    }

    proptest! {
        #[test]
        fn loops_are_found_and_are_loops(arrows in vec((0..7usize, 0..7usize), 0..12)) {
            let edges = graph(&arrows, 7);
            let found = walk(&edges);
            let any = (0..7).any(|node| comes_back(&edges, node));
            prop_assert_eq!(any, !found.loops.is_empty());
            for Loop { ring, edges: places } in &found.loops {
                prop_assert_eq!(places.len(), ring.len() - 1);
                prop_assert_eq!(ring.first(), ring.last());
                for pair in ring.windows(2) {
                    prop_assert!(edges[pair[0]].iter().any(|(to, _)| *to == pair[1]));
                }
            }
            let mut order = found.postorder.clone();
            if found.loops.is_empty() {
                let place = |node| found.postorder.iter().position(|other| *other == node);
                for (from, to) in &arrows {
                    prop_assert!(place(*to) < place(*from), "what is led to comes first");
                }
            }
            order.sort_unstable();
            prop_assert_eq!(order, (0..7).collect::<Vec<_>>());
        }
    }

    #[test]
    fn a_long_chain_needs_no_stack() {
        let arrows: Vec<(usize, usize)> = (0..200_000).map(|i| (i, i + 1)).collect();
        assert_eq!(walk(&graph(&arrows, 200_001)).postorder.len(), 200_001);
    }
}
