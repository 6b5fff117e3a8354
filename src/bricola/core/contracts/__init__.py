"""Contracts: the WSDL and schemas that callers load, sample messages, and the OpenAPI description of the REST face."""
