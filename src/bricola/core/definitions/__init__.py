"""What integrators write: frozen models, their YAML text, how they refer to one another, and their review."""
