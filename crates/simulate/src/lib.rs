//! Stand-ins for devices and for a small broker, so that everything can be tried with nothing installed.
