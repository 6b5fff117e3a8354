"""The command line. Each command calls the client library, never the store."""
