"""SOAP messages, sans-I/O: bytes in, values out; values in, bytes out. Codecs are compiled when a service is deployed."""
