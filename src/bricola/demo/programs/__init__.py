"""The demo's program host, and the program that it runs."""
