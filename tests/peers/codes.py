"""A server for codes, made of another implementation of RADIUS: yes to one code, a question after another one, and no to all others."""
import hashlib
import hmac
import io
import socket
import struct
import sys

import pyrad.dictionary
import pyrad.packet

DICTIONARY = """ATTRIBUTE User-Name 1 string
ATTRIBUTE User-Password 2 octets
ATTRIBUTE Reply-Message 18 string
ATTRIBUTE State 24 octets
ATTRIBUTE Calling-Station-Id 31 string
ATTRIBUTE NAS-Identifier 32 string
ATTRIBUTE Message-Authenticator 80 octets
"""


def decide(user, code, state):
    """What is said: the code of the answer, and its attributes."""
    if state == b"wants-a-new-pin":
        return (pyrad.packet.AccessAccept, {}) if code == "8888" else (pyrad.packet.AccessReject, {})
    if (user, code) == ("benoit", "111111"):
        return pyrad.packet.AccessAccept, {}
    if (user, code) == ("benoit", "222222"):
        return pyrad.packet.AccessChallenge, {"State": b"wants-a-new-pin", "Reply-Message": "Choose a new PIN of four digits."}
    return pyrad.packet.AccessReject, {"Reply-Message": "Code not valid."}


def is_proven(octets, secret):
    """Whether a Message-Authenticator proves the request (RFC 3579 3.2)."""
    at = 20
    while at < len(octets):
        kind, length = octets[at], octets[at + 1]
        if kind == 80:
            blank = octets[: at + 2] + bytes(16) + octets[at + 18 :]
            return hmac.compare_digest(octets[at + 2 : at + 18], hmac.new(secret, blank, hashlib.md5).digest())
        at += length
    return False


def answer(request, secret, code, attributes):
    """An answer with its proofs, the Message-Authenticator first."""
    reply = request.CreateReply()
    for name, value in attributes.items():
        reply[name] = value
    rest = reply._PktEncodeAttributes()
    head = struct.pack("!BBH", code, request.id, 38 + len(rest))
    proof = hmac.new(secret, head + request.authenticator + b"\x50\x12" + bytes(16) + rest, hashlib.md5).digest()
    body = b"\x50\x12" + proof + rest
    return head + hashlib.md5(head + request.authenticator + body + secret).digest() + body


def main(secret):
    names = pyrad.dictionary.Dictionary(io.StringIO(DICTIONARY))
    at = socket.socket(socket.AF_INET, socket.SOCK_DGRAM)
    at.bind(("127.0.0.1", 0))
    print(at.getsockname()[1], flush=True)
    while True:
        octets, sender = at.recvfrom(4096)
        request = pyrad.packet.AuthPacket(packet=octets, secret=secret, dict=names)
        if not is_proven(octets, secret):
            continue
        code, attributes = decide(request["User-Name"][0], request.PwDecrypt(request["User-Password"][0]), dict.get(request, 24, [None])[0])
        at.sendto(answer(request, secret, code, attributes), sender)


main(sys.argv[1].encode())
