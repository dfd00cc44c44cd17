"""A switch made of another implementation of RADIUS and another one of TLS: it asks over one connection (RFC 6614). A line for each answer."""
import io
import json
import socket
import ssl
import struct
import sys

import pyrad.client
import pyrad.dictionary
import pyrad.packet

DICTIONARY = """ATTRIBUTE User-Name 1 string
ATTRIBUTE User-Password 2 string
ATTRIBUTE Filter-Id 11 string
ATTRIBUTE Reply-Message 18 string
ATTRIBUTE Message-Authenticator 80 octets
"""


def whole(stream):
    """The next packet of a connection, by the length that it says."""
    head = stream.recv(4)
    length = struct.unpack("!H", head[2:4])[0]
    while len(head) < length:
        more = stream.recv(length - len(head))
        if not more:
            raise EOFError
        head += more
    return head


def main(server, port, source, authority, certificate, key, user, *passwords):
    known = pyrad.dictionary.Dictionary(io.StringIO(DICTIONARY))
    context = ssl.create_default_context(cafile=authority)
    context.load_cert_chain(certificate, key)
    context.set_alpn_protocols(["radius/1.0"])
    raw = socket.create_connection((server, int(port)), timeout=20, source_address=(source, 0))
    with context.wrap_socket(raw, server_hostname="pass.havrelune.localhost") as stream:
        client = pyrad.client.Client(server=server, secret=b"radsec", dict=known)
        for password in passwords:
            ask = client.CreateAuthPacket(code=pyrad.packet.AccessRequest, User_Name=user)
            ask.authenticator = pyrad.packet.Packet.CreateAuthenticator()
            ask["User-Password"] = ask.PwCrypt(password)
            stream.sendall(ask.RequestPacket())
            octets = whole(stream)
            answer = ask.CreateReply(packet=octets)
            filters = [f.decode() if isinstance(f, bytes) else f for f in (answer["Filter-Id"] if "Filter-Id" in answer.keys() else [])]
            print(json.dumps({"code": answer.code, "proven": ask.VerifyReply(answer, rawreply=octets), "filters": filters}), flush=True)


main(*sys.argv[1:])
