//! Where Tidy Warden keeps what it knows: one narrow trait, SQLite behind it.
