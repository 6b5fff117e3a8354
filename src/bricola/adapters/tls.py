"""TLS as a binding asks for it, for servers that are reached over a socket."""

import ssl

from bricola.core.definitions.model import Binding


def tls_context(binding: Binding) -> ssl.SSLContext | None:
    """What the binding asks of the connection: nothing, encryption, or a certificate that is trusted for the host's name."""
    if binding.tls == "off":
        return None
    context = ssl.create_default_context()
    if binding.tls == "encrypt":
        context.check_hostname = False
        context.verify_mode = ssl.CERT_NONE
    return context
