//! Values behind a trait that can still be told apart.

use std::any::{Any, TypeId};
use std::hash::{Hash, Hasher};

/// What can be compared without its type being known: implemented for all that can be compared with it.
pub trait Same {
    /// Whether another value is of the same type and equal.
    fn same(&self, other: &dyn Any) -> bool;
    /// Adds it to a hash.
    fn hash_same(&self, state: &mut dyn Hasher);
    /// For [`Same::same`].
    fn as_any_same(&self) -> &dyn Any;
}

impl<T: Any + Eq + Hash> Same for T {
    fn same(&self, other: &dyn Any) -> bool {
        other.downcast_ref::<T>().is_some_and(|other| self == other)
    }

    fn hash_same(&self, mut state: &mut dyn Hasher) {
        TypeId::of::<T>().hash(&mut state);
        self.hash(&mut state);
    }

    fn as_any_same(&self) -> &dyn Any {
        self
    }
}
