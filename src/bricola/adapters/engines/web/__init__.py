"""What engines over HTTP share."""
