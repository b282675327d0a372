//! Values behind a trait that can still be told apart.
//!
//! Aggregates and words of the table are trait objects, and yet nodes of the tree are equal where what they work
//! out is: [`Same`] compares them by type and by value.

use std::any::{Any, TypeId};
use std::hash::{Hash, Hasher};
use std::sync::Arc;

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

/// Something shared behind a trait, told apart by what it is.
pub struct Alike<T: ?Sized>(pub Arc<T>);

impl<T: ?Sized> Clone for Alike<T> {
    fn clone(&self) -> Alike<T> {
        Alike(self.0.clone())
    }
}

impl<T: ?Sized> std::ops::Deref for Alike<T> {
    type Target = T;

    fn deref(&self) -> &T {
        &self.0
    }
}

impl<T: ?Sized + Same> PartialEq for Alike<T> {
    fn eq(&self, other: &Alike<T>) -> bool {
        self.0.same(other.0.as_any_same())
    }
}

impl<T: ?Sized + Same> Eq for Alike<T> {}

impl<T: ?Sized + Same> Hash for Alike<T> {
    fn hash<H: Hasher>(&self, mut state: &mut H) {
        self.0.hash_same(&mut state);
    }
}
