//! Dense `u32` identifiers, one type per thing, so that one cannot stand for another.
//!
//! An id is an index into the frozen [`Estate`](crate::Estate) that made it and means nothing
//! elsewhere. Within a type, ids follow the order of names (scopes: of path segments), so sorting
//! ids sorts names.

macro_rules! ids {
    ($($(#[$doc:meta])* $name:ident)*) => {$(
        $(#[$doc])*
        #[derive(Clone, Copy, Debug, PartialEq, Eq, PartialOrd, Ord, Hash)]
        pub struct $name(pub(crate) u32);

        impl $name {
            /// The position in the estate's list of such things.
            #[must_use]
            pub fn index(self) -> usize {
                self.0 as usize
            }

            /// The id of position `index`; the loader's limits keep every list within `u32`.
            pub(crate) fn new(index: usize) -> Self {
                Self(u32::try_from(index).expect("limits keep every list within u32"))
            }
        }
    )*};
}

ids! {
    /// A service: a heading for kinds.
    ServiceId
    /// A kind of thing in the catalogue.
    KindId
    /// An action: a kind and one of its verbs.
    ActionId
    /// A scope: account, subscription, resource or namespace.
    ScopeId
    /// A user.
    UserId
    /// A group.
    GroupId
    /// A role.
    RoleId
    /// A policy.
    PolicyId
    /// A statement of any policy.
    StatementId
    /// An attachment as written, lists not multiplied out.
    AttachmentId
    /// A ceiling as written, lists not multiplied out.
    CeilingId
    /// An attribute's full dotted name.
    AttributeId
}
