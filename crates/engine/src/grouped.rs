//! Groups values by key.

/// Values by key, in the order in which the keys were first seen, each value once.
#[derive(Debug)]
pub(crate) struct Grouped<K, V>(Vec<(K, Vec<V>)>);

impl<K: PartialEq, V: PartialEq> Grouped<K, V> {
    pub fn of(pairs: impl IntoIterator<Item = (K, V)>) -> Self {
        let mut all: Vec<(K, Vec<V>)> = Vec::new();
        for (key, value) in pairs {
            match all.iter_mut().find(|(other, _)| *other == key) {
                Some((_, values)) if values.contains(&value) => {}
                Some((_, values)) => values.push(value),
                None => all.push((key, vec![value])),
            }
        }
        Self(all)
    }
}

impl<K, V> IntoIterator for Grouped<K, V> {
    type Item = (K, Vec<V>);
    type IntoIter = std::vec::IntoIter<(K, Vec<V>)>;

    fn into_iter(self) -> Self::IntoIter {
        self.0.into_iter()
    }
}
