"""What people do with a running service: one module per subject, each a set of functions on a `Bricola`."""
