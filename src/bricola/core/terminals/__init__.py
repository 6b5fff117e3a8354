"""Terminal hosts: telnet, data streams and screens, sans-I/O. Bytes in, events and bytes out; no sockets, no clocks."""
