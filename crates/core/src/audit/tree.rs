//! The Merkle tree over the entries of the record (RFC 9162 section 2.1), so that one entry can be proved to belong to a signed
//! head without the others.

use aws_lc_rs::digest::{Context, SHA256};

use super::Hash;

/// The root of the tree over leaves that come one by one. Memory grows with the logarithm of their number.
#[derive(Debug, Clone, Default, PartialEq, Eq)]
pub struct Tree {
    /// Roots of complete subtrees, the largest first, each with its number of leaves.
    peaks: Vec<(u64, Hash)>,
}

fn hashed(parts: &[&[u8]]) -> Hash {
    let mut context = Context::new(&SHA256);
    parts.iter().for_each(|part| context.update(part));
    let mut out = [0; 32];
    out.copy_from_slice(context.finish().as_ref());
    out
}

/// `SHA-256(0x01 || left || right)`.
fn node(left: &Hash, right: &Hash) -> Hash {
    hashed(&[&[1], left, right])
}

impl Tree {
    /// Adds an entry by its hash: the leaf is `SHA-256(0x00 || hash)`.
    pub fn add(&mut self, entry: &Hash) {
        let mut peak = (1, hashed(&[&[0], entry]));
        while let Some((size, left)) = self.peaks.pop_if(|(size, _)| *size == peak.0) {
            peak = (size * 2, node(&left, &peak.1));
        }
        self.peaks.push(peak);
    }

    /// The peaks, the largest first: of each its number of leaves in 8 octets, and its root.
    #[must_use]
    pub fn to_octets(&self) -> Vec<u8> {
        self.peaks.iter().flat_map(|(size, root)| size.to_be_bytes().into_iter().chain(*root)).collect()
    }

    /// The tree of [`Self::to_octets`]; `None` if they are not a tree's.
    #[must_use]
    pub fn from_octets(octets: &[u8]) -> Option<Self> {
        let (parts, []) = octets.as_chunks::<40>() else { return None };
        let mut peaks: Vec<(u64, Hash)> = Vec::with_capacity(parts.len());
        for part in parts {
            let (size, root) = part.split_first_chunk::<8>()?;
            let size = u64::from_be_bytes(*size);
            if !size.is_power_of_two() || peaks.last().is_some_and(|(larger, _)| *larger <= size) {
                return None;
            }
            peaks.push((size, root.try_into().ok()?));
        }
        Some(Self { peaks })
    }

    /// The root; of no leaves, the digest of nothing.
    #[must_use]
    pub fn root(&self) -> Hash {
        let mut peaks = self.peaks.iter().rev().map(|(_, hash)| *hash);
        match peaks.next() {
            None => hashed(&[]),
            Some(last) => peaks.fold(last, |right, left| node(&left, &right)),
        }
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    /// MTH as section 2.1.1 defines it, recursively.
    fn defined(leaves: &[Hash]) -> Hash {
        match leaves {
            [] => hashed(&[]),
            [one] => hashed(&[&[0], one]),
            many => {
                // The largest power of two that is smaller than their number.
                let split = many.len().next_power_of_two() / 2;
                node(&defined(&many[..split]), &defined(&many[split..]))
            }
        }
    }

    #[test]
    fn the_root_is_that_of_the_definition_for_every_number_of_leaves() {
        let leaves: Vec<Hash> = (0..70u8).map(|n| [n; 32]).collect();
        let mut tree = Tree::default();
        for count in 0..=leaves.len() {
            assert_eq!(tree.root(), defined(&leaves[..count]), "{count} leaves");
            let octets = tree.to_octets();
            assert_eq!(Tree::from_octets(&octets), Some(tree.clone()));
            let doubled = [&octets[..], &octets[..]].concat();
            assert!(
                octets.is_empty() || Tree::from_octets(&octets[1..]).is_none() && Tree::from_octets(&doubled).is_none()
            );
            if let Some(leaf) = leaves.get(count) {
                tree.add(leaf);
            }
        }
    }
}
