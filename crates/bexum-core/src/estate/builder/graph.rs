//! Loops in who-holds-whom graphs, found without recursion.

use crate::origin::Origin;

/// A node's neighbours, each with the place where the edge is written.
pub(super) type Edges = Vec<Vec<(usize, Origin)>>;

/// What a walk over the whole graph finds.
pub(super) struct Walk {
    /// Every node, each after all that it leads to (save around loops).
    pub(super) postorder: Vec<usize>,
    /// Each loop once: its nodes, the first again at the end, and the edge that closes it.
    pub(super) loops: Vec<(Vec<usize>, Origin)>,
}

/// Walks the graph depth first.
pub(super) fn walk(edges: &Edges) -> Walk {
    #[derive(Clone, Copy, PartialEq)]
    enum Mark {
        New,
        OnPath,
        Done,
    }
    let mut marks = vec![Mark::New; edges.len()];
    let mut found = Walk { postorder: Vec::with_capacity(edges.len()), loops: Vec::new() };
    for start in 0..edges.len() {
        if marks[start] != Mark::New {
            continue;
        }
        marks[start] = Mark::OnPath;
        let mut path = vec![(start, 0)];
        while let Some((node, next)) = path.last_mut() {
            let Some(&(to, origin)) = edges[*node].get(*next) else {
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
                    found.loops.push((ring, origin));
                }
                Mark::Done => {}
            }
        }
    }
    found
}
