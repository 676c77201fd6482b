/// What a NAS was heard to do apart from what it asked, to be kept and restored. Times are milliseconds since 1970, 0
/// for never.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq)]
pub struct HeardMarks {
    /// Since when every request for access carried Message-Authenticator; 0 where the last one
    /// did not, or none came.
    pub signed_since: u64,
    /// When one came last that did not, to within a minute.
    pub unsigned_at: u64,
    /// The newest change of its secret that it followed, by the time of that change.
    pub switched: u64,
}
