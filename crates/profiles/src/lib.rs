//! Supplicant profiles: files that tell a client which server to trust and how to
//! prove itself, so that nobody has to click a warning away.
//!
//! This crate turns values into text and does nothing else. Read [`Network`]
//! first, then [`Network::profile`].

mod apple;
mod linux;
mod network;
mod passpoint;
mod windows;
mod xml;

pub use network::{Inner, Method, Network, Platform, Profile, ProfileError};
