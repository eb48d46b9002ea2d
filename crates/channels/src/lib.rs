//! Channels.
