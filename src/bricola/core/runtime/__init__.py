"""What happens at a call: sessions from pools, handlers compiled at deployment, one pipeline, call records."""
