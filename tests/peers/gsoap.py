"""A compiled peer: C++ that gSOAP's tools (Debian: gsoap, libgsoap-dev) generate from a contract, with a main program made from the proxy
that they wrote, and nothing that was written for one contract."""

import re
import subprocess
from pathlib import Path

from lxml import etree

_METHOD = re.compile(r"virtual int (\w+)\((?:const )?(\w+) \*\w+, (?:struct )?(\w+) &\w+\) \{ return this->\1\(NULL")
_MAIN = """#include "{proxy}.h"
#include "{map}"
#include <fstream>
#include <iostream>
#include <string>
int main(int argc, char **argv) {{
  struct soap *soap = soap_new1(SOAP_XML_INDENT | SOAP_C_UTFSTRING);
  soap->connect_timeout = soap->recv_timeout = soap->send_timeout = 60;
  {proxy_class} proxy(soap, argv[1]);
  const std::string operation = argv[3];
  std::ifstream file(argv[4]);
  soap->is = &file;
{calls}
  return 9;
}}
"""
_CALL = """  if (operation == "{operation}") {{
    {input} *in = soap_new_{input}(soap);
    if (soap_read_{input}(soap, in)) {{ soap_stream_fault(soap, std::cerr); return 3; }}
    soap->is = NULL;
    soap->bearer = argv[2];
    {output} out;
    if (proxy.{operation}(in, out)) {{ proxy.soap_stream_fault(std::cerr); return 2; }}
    soap->os = &std::cout;
    return soap_write_{written}(soap, {value}) ? 4 : 0;
  }}"""


class GsoapPeer:
    """A program for one contract, built in a folder. Raises CalledProcessError when a tool or the compiler refuses."""

    name = "gSOAP, C++"

    def __init__(self, contract: bytes, name: str, folder: Path) -> None:
        folder.mkdir(parents=True, exist_ok=True)
        (folder / "contract.wsdl").write_bytes(contract)
        self._folder = folder
        self._run("wsdl2h", "-O1", "-P", "-c++11", "-o", "contract.h", "contract.wsdl")
        self._run("soapcpp2", "-1", "-C", "-j", "-x", "-L", "-I/usr/share/gsoap/import", "contract.h")
        header = next(one for one in folder.glob("*Proxy.h"))
        text, stub = header.read_text(), next(folder.glob("*Stub.h")).read_text()
        proxy_class = str(re.search(r"class SOAP_CMAC (\w+)", text)[1])  # type: ignore[index]

        calls = [_call(one[1], one[2], one[3], stub) for one in _METHOD.finditer(text)]
        (folder / "main.cpp").write_text(_MAIN.format(
            proxy=header.stem, map=next(folder.glob("*.nsmap")).name, proxy_class=proxy_class, calls="\n".join(calls)))
        sources = ["main.cpp", *(one.name for one in folder.glob("*C.cpp")), *(one.name for one in folder.glob("*Proxy.cpp"))]
        self._run("g++", "-O0", "-w", "-std=c++11", *sources, "-lgsoap++", "-o", "peer")

    def call(self, address: str, token: str, operation: str, message: bytes) -> bytes:
        """The element of the answer, as the generated types write it; header blocks are left out. Raises CalledProcessError with the fault
        on standard error."""
        body = next(one for one in etree.fromstring(message) if etree.QName(one).localname == "Body")
        given = body[0]
        if len(given) and not etree.QName(given[0]).namespace and etree.QName(given).namespace:
            given = given[0]  # the one part of an rpc message, which the proxy takes as its argument
        (self._folder / "request.xml").write_bytes(etree.tostring(given, method="c14n", exclusive=True))
        return self._run("./peer", address, token, operation, "request.xml")

    def _run(self, *command: str) -> bytes:
        return subprocess.run(command, cwd=self._folder, check=True, capture_output=True, timeout=180).stdout


def _call(operation: str, given: str, gives: str, stub: str) -> str:
    """Where header blocks come back with it, the answer is one member of a structure."""
    inside = re.search(rf"struct {gives} \{{.*?(\w+) \*(\w+);", stub, re.DOTALL) if gives.startswith("__") else None
    written, value = (inside[1], f"out.{inside[2]}") if inside is not None else (gives, "&out")
    return _CALL.format(operation=operation, input=given, output=gives, written=written, value=value)
