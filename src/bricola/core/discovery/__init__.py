"""Discovery: what a database holds, and drafts of definitions from it."""
