"""Doors to the outside: databases now; sockets to terminal and program hosts, outbound SOAP and HTTP as they come."""
