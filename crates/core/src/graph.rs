//! Graph walks as plain functions over "what does this node wait for". Nodes are `0..count`; results are
//! deterministic in the order of the numbers.

/// Nodes in an order where everything comes after what it waits for, or the disjoint circles that make that impossible.
/// Each circle lists nodes so that every one waits for the next, and the last for the first.
pub(crate) fn topological(count: usize, waits_for: &[Vec<usize>]) -> Result<Vec<usize>, Vec<Vec<usize>>> {
    let mut open: Vec<usize> = waits_for.iter().map(Vec::len).collect();
    let mut followers = vec![Vec::new(); count];
    for (node, waits) in waits_for.iter().enumerate() {
        for &on in waits {
            followers[on].push(node);
        }
    }
    let mut sorted: Vec<usize> = (0..count).filter(|&node| open[node] == 0).collect();
    let mut next = 0;
    while let Some(&node) = sorted.get(next) {
        next += 1;
        for &follower in &followers[node] {
            open[follower] -= 1;
            if open[follower] == 0 {
                sorted.push(follower);
            }
        }
    }
    if sorted.len() == count { Ok(sorted) } else { Err(circles(count, waits_for, &open)) }
}

/// Walks backwards among the nodes that never opened; every walk that meets itself has found a circle.
fn circles(count: usize, waits_for: &[Vec<usize>], open: &[usize]) -> Vec<Vec<usize>> {
    const UNSEEN: usize = usize::MAX;
    let mut seen_by = vec![UNSEEN; count];
    let mut found = Vec::new();
    for start in (0..count).filter(|&node| open[node] > 0) {
        let mut path = Vec::new();
        let mut node = start;
        while seen_by[node] == UNSEEN {
            seen_by[node] = start;
            path.push(node);
            match waits_for[node].iter().copied().find(|&on| open[on] > 0) {
                Some(on) => node = on,
                None => break,
            }
        }
        if seen_by[node] == start
            && let Some(from) = path.iter().position(|&on| on == node)
            && waits_for[*path.last().unwrap_or(&node)].contains(&node)
        {
            found.push(path.split_off(from));
        }
    }
    found
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn sorts_what_can_be_sorted() {
        //  0 <- 1 <- 3,  0 <- 2 <- 3
        assert_eq!(topological(4, &[vec![], vec![0], vec![0], vec![1, 2]]), Ok(vec![0, 1, 2, 3]));
    }

    #[test]
    fn finds_each_circle_once_and_no_node_beside_it() {
        //  0 -> 1 -> 2 -> 0,  3 -> 0 (beside),  4 -> 4
        let waits = [vec![1], vec![2], vec![0], vec![0], vec![4]];
        assert_eq!(topological(5, &waits), Err(vec![vec![0, 1, 2], vec![4]]));
    }
}
