"""What a use case may ask for: drafts, releases, what is live, people, credentials, films, calls, and the one way to change anything.

A use case names the ports that it needs in a protocol of its own, so it can be tried with those alone.
"""
