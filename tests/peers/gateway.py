"""A gateway made of another implementation of RADIUS: it asks, tells, and takes one order. What it sees goes to standard output, a line each."""
import hashlib
import hmac
import io
import json
import socket
import sys

import pyrad.client
import pyrad.dictionary
import pyrad.packet

DICTIONARY = """ATTRIBUTE User-Name 1 string
ATTRIBUTE Service-Type 6 integer
ATTRIBUTE Framed-IP-Address 8 ipaddr
ATTRIBUTE Filter-Id 11 string
ATTRIBUTE Reply-Message 18 string
ATTRIBUTE Class 25 octets
ATTRIBUTE Session-Timeout 27 integer
ATTRIBUTE Idle-Timeout 28 integer
ATTRIBUTE Acct-Status-Type 40 integer
ATTRIBUTE Acct-Session-Id 44 string
ATTRIBUTE Event-Timestamp 55 integer
ATTRIBUTE Tunnel-Type 64 integer
ATTRIBUTE Tunnel-Medium-Type 65 integer
ATTRIBUTE Tunnel-Private-Group-Id 81 string
ATTRIBUTE Acct-Interim-Interval 85 integer
ATTRIBUTE Message-Authenticator 80 octets
ATTRIBUTE Error-Cause 101 integer
"""


def say(**what):
    print(json.dumps(what), flush=True)


def proof(octets, secret, authenticator):
    """The Message-Authenticator of a packet (RFC 2869 section 5.14): this implementation knows none."""
    octets, at = bytearray(octets), 20
    octets[4:20] = authenticator
    while octets[at] != 80:
        at += octets[at + 1]
    found = bytes(octets[at + 2 : at + 18])
    octets[at + 2 : at + 18] = bytes(16)
    return found, hmac.new(secret, bytes(octets), hashlib.md5).digest()


def main(server, port, secret, user):
    known = pyrad.dictionary.Dictionary(io.StringIO(DICTIONARY))
    secret = secret.encode()
    orders = socket.socket(socket.AF_INET, socket.SOCK_DGRAM)
    orders.bind(("127.0.0.11", 0))
    say(orders=orders.getsockname()[1])
    # The test publishes where orders are taken, and says when it has.
    sys.stdin.readline()
    client = pyrad.client.Client(server=server, authport=int(port), acctport=int(port), secret=secret, dict=known)
    client.timeout, client.retries = 15, 1
    client.bind(("127.0.0.11", 0))
    ask = client.CreateAuthPacket(code=pyrad.packet.AccessRequest, User_Name=user, Service_Type=17, Acct_Session_Id="p1")
    ask.authenticator = pyrad.packet.Packet.CreateAuthenticator()
    ask["Message-Authenticator"] = bytes(16)
    ask["Message-Authenticator"] = proof(ask.RequestPacket(), secret, ask.authenticator)[1]
    told = client.SendPacket(ask)
    # An answer whose authenticator is another is none for it.
    say(code=told.code, filters=told["Filter-Id"], timeout=told["Session-Timeout"][0])
    start = client.CreateAcctPacket(User_Name=user, Acct_Session_Id="p1", Acct_Status_Type=1, Framed_IP_Address="10.66.0.77")
    start["Class"] = told["Class"][0]
    say(accounting=client.SendPacket(start).code)
    octets, sender = orders.recvfrom(4096)
    order = pyrad.packet.CoAPacket(packet=octets, secret=secret, dict=known)
    say(
        order=order.code,
        proven=order.VerifyCoARequest() and hmac.compare_digest(*proof(octets, secret, bytes(16))),
        number=order["Acct-Session-Id"],
        user=order["User-Name"],
    )
    answer = order.CreateReply()
    answer.code = pyrad.packet.DisconnectACK
    orders.sendto(answer.ReplyPacket(), sender)


main(*sys.argv[1:])
