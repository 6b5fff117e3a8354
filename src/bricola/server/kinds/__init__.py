"""The server's half of the kinds of source, a folder each; see `kind` and `registry`."""
