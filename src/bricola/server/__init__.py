"""The running service: gateway, management API, pages, console files, health."""
