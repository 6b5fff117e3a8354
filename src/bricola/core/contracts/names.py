"""Namespaces and media types of the standards that contracts and messages use."""

XSD = "http://www.w3.org/2001/XMLSchema"
WSDL = "http://schemas.xmlsoap.org/wsdl/"
WSDL_SOAP11 = "http://schemas.xmlsoap.org/wsdl/soap/"
WSDL_SOAP12 = "http://schemas.xmlsoap.org/wsdl/soap12/"
HTTP_TRANSPORT = "http://schemas.xmlsoap.org/soap/http"  # in both bindings: what every client stack reads
ENVELOPE11 = "http://schemas.xmlsoap.org/soap/envelope/"
ENVELOPE12 = "http://www.w3.org/2003/05/soap-envelope"
MEDIA11 = "text/xml"
MEDIA12 = "application/soap+xml"
XSI = "http://www.w3.org/2001/XMLSchema-instance"
XML = "http://www.w3.org/XML/1998/namespace"
PROBLEM = "urn:bricola:problem:1"
PROBLEMS = "problems"  # the element of the one fault that every contract declares, in that namespace
TRIAL = "urn:bricola:trial:1"
WRITTEN = "urn:bricola:written:1"
SECURITY = "http://docs.oasis-open.org/wss/2004/01/oasis-200401-wss-wssecurity-secext-1.0.xsd"
ADDRESSING = "http://www.w3.org/2005/08/addressing"
