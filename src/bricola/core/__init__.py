"""The heart: definitions, shapes, contracts, messages and the runtime. Knows no server, console, store or command line."""
