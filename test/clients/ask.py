#!/usr/bin/python3
"""Asks a gateway, bit by bit and call by call, what each of its users may do: SMB by python3-impacket, NFS 3 and
4.1 by calls put together here after RFC 5531, 1813 and 8881. Nothing of the gateway's own code is in it.

  ask.py SMB_PORT NFS_PORT ROOT EXPORT

reads a JSON list of askings a line from standard input and answers each with a JSON list of numbers: 0 where it was
granted, else the status. ROOT is where the export lies on this machine: what an asking has made or removed
is put back there.
"""

import json
import os
import socket
import struct
import sys

from impacket import smb3, smb3structs
from impacket.smb3 import SessionError

SMB_PORT, NFS_PORT, ROOT, EXPORT = int(sys.argv[1]), int(sys.argv[2]), sys.argv[3], sys.argv[4]
DIALECTS = {"smb2.1": 0x0210, "smb3.1.1": 0x0311}
SHARE_ALL = 7
MAXIMUM = 0x02000000


class Client311(smb3.SMB3):
    """The library begins a session's hash without that of the negotiation (MS-SMB2 section 3.2.5.3)."""

    def login(self, *args, **kwargs):
        self._Session["PreauthIntegrityHashValue"] = self._Connection["PreauthIntegrityHashValue"]
        return super().login(*args, **kwargs)


class SMB:
    def __init__(self, dialect, user, share):
        self.conn = Client311("127.0.0.1", "127.0.0.1", sess_port=SMB_PORT, preferredDialect=DIALECTS[dialect], timeout=120)
        if self.conn.getDialect() != DIALECTS[dialect]:
            raise SystemExit("another dialect was chosen: %x" % self.conn.getDialect())
        self.conn.login(user, user + "-at-larkfell")
        self.share, self.tree = share, None

    def connect(self):
        if self.tree is not None:
            self.conn.disconnectTree(self.tree)
            self.tree = None
        try:
            self.tree = self.conn.connectTree(self.share)
            return 0
        except SessionError as e:
            return e.get_error_code()

    def open(self, path, mask):
        return self.conn.create(self.tree, path.replace("/", "\\"), mask, SHARE_ALL, 0, smb3structs.FILE_OPEN, 0)

    def ask(self, what, path, mask):
        if what == "connect":
            return self.connect()
        if self.tree is None:
            return -1  # there is nothing to ask through
        try:
            h = self.open(path, mask)
        except SessionError as e:
            return e.get_error_code()
        try:
            if what == "read":
                self.conn.read(self.tree, h, 0, 4)
            if what == "maximum":  # the number itself is the answer
                raw = self.conn.queryInfo(self.tree, h, fileInfoClass=8)
                return struct.unpack("<L", raw[:4])[0]
            return 0
        except SessionError as e:
            return e.get_error_code()
        finally:
            self.conn.close(self.tree, h)


def opaque(b):
    return struct.pack(">L", len(b)) + b + b"\0" * (-len(b) % 4)


class Reader:
    def __init__(self, b):
        self.b, self.at = b, 0

    def u32(self):
        self.at += 4
        return struct.unpack_from(">L", self.b, self.at - 4)[0]

    def fixed(self, n):
        self.at += n + (-n % 4)
        return self.b[self.at - n - (-n % 4):][:n]

    def opaque(self):
        return self.fixed(self.u32())


class RPC:
    def __init__(self):
        self.s = socket.create_connection(("127.0.0.1", NFS_PORT), timeout=120)
        self.s.setsockopt(socket.IPPROTO_TCP, socket.TCP_NODELAY, 1)
        self.xid = 1

    def exactly(self, n):
        out = b""
        while len(out) < n:
            got = self.s.recv(n - len(out))
            if not got:
                raise SystemExit("the connection was closed")
            out += got
        return out

    def call(self, program, version, procedure, uid, gid, args):
        self.xid += 1
        cred = struct.pack(">L", 0) + opaque(b"asker") + struct.pack(">LLL", uid, gid, 0)
        msg = struct.pack(">LLLLLL", self.xid, 0, 2, program, version, procedure) + struct.pack(">L", 1) + opaque(cred) + struct.pack(">LL", 0, 0) + args
        self.s.sendall(struct.pack(">L", 0x80000000 | len(msg)) + msg)
        while True:
            n = struct.unpack(">L", self.exactly(4))[0] & 0x7FFFFFFF
            r = Reader(self.exactly(n))
            if r.u32() == self.xid:
                break
        r.u32()
        if r.u32() != 0:
            raise SystemExit("a call was denied")
        r.u32()
        r.opaque()
        if r.u32() != 0:
            raise SystemExit("a call was not accepted")
        return r


def sattr3(mode=None, uid=None, size=None):
    out = struct.pack(">L", 0) if mode is None else struct.pack(">LL", 1, mode)
    out += struct.pack(">L", 0) if uid is None else struct.pack(">LL", 1, uid)
    out += struct.pack(">L", 0)
    out += struct.pack(">L", 0) if size is None else struct.pack(">LQ", 1, size)
    return out + struct.pack(">LL", 0, 0)


ACCESS_ALL = 0x1F


class NFS3:
    def __init__(self):
        self.rpc = RPC()

    def root(self, uid):
        r = self.rpc.call(100005, 3, 1, uid, 0, opaque(EXPORT.encode()))
        if r.u32() != 0:
            raise SystemExit("cannot mount")
        return r.opaque()

    def lookup(self, uid, gid, fh, name):
        r = self.rpc.call(100003, 3, 3, uid, gid, opaque(fh) + opaque(name.encode()))
        st = r.u32()
        return (st, r.opaque() if st == 0 else None)

    def ask(self, what, uid, gid, fh, name, arg):
        call = lambda proc, args: self.rpc.call(100003, 3, proc, uid, gid, opaque(fh) + args)
        if what == "getattr":
            return call(1, b"").u32()
        if what == "access":  # the bits are the answer
            r = call(4, struct.pack(">L", ACCESS_ALL))
            if r.u32() != 0:
                return -1
            if r.u32():
                r.fixed(84)
            return r.u32()
        if what == "lookup":
            return self.lookup(uid, gid, fh, name)[0]
        if what == "read":
            return call(6, struct.pack(">QL", 0, 4)).u32()
        if what == "write":
            return call(7, struct.pack(">QLL", 0, 1, 2) + opaque(b"d")).u32()
        if what == "readdir":
            return call(16, struct.pack(">QQL", 0, 0, 4096)).u32()
        if what == "setmode":
            return call(2, sattr3(mode=arg) + struct.pack(">L", 0)).u32()
        if what == "setowner":
            return call(2, sattr3(uid=arg) + struct.pack(">L", 0)).u32()
        if what == "setsize":
            return call(2, sattr3(size=arg) + struct.pack(">L", 0)).u32()
        if what == "create":
            return call(8, opaque(name.encode()) + struct.pack(">L", 1) + sattr3()).u32()
        if what == "mkdir":
            return call(9, opaque(name.encode()) + sattr3()).u32()
        if what == "remove":
            return call(12, opaque(name.encode())).u32()
        if what == "rmdir":
            return call(13, opaque(name.encode())).u32()
        raise SystemExit("no such asking: " + what)


class NFS41:
    """One client with one session; the people of one host share it, as a kernel's do."""

    def __init__(self):
        self.rpc, self.seq = RPC(), 0
        r = self.compound(0, 0, [(42, os.urandom(8) + opaque(b"asker %d" % os.getpid()) + struct.pack(">LLL", 0, 0, 0))], bare=True)
        clientid, first = struct.unpack(">QL", r.b[r.at:r.at + 12])
        channel = struct.pack(">LLLLLLL", 0, 1 << 16, 1 << 16, 4096, 16, 1, 0)
        r = self.compound(0, 0, [(43, struct.pack(">QLL", clientid, first, 0) + channel + channel + struct.pack(">LLL", 0, 1, 0))], bare=True)
        self.session = r.fixed(16)
        self.clientid = clientid
        self.compound(0, 0, [(58, struct.pack(">L", 0))])

    def compound(self, uid, gid, ops, bare=False):
        if not bare:
            self.seq += 1
            ops = [(53, self.session + struct.pack(">LLLL", self.seq, 0, 0, 0))] + ops
        args = opaque(b"") + struct.pack(">LL", 1, len(ops)) + b"".join(struct.pack(">L", n) + a for n, a in ops)
        r = self.rpc.call(100003, 4, 1, uid, gid, args)
        self.status = r.u32()
        r.opaque()
        r.u32()
        if bare or self.status == 0 and len(ops) == 1:
            if self.status != 0:
                raise SystemExit("no session: %d" % self.status)
            r.u32(), r.u32()
        return r

    def results(self, r, skip):
        """Steps over the results of SEQUENCE and, with skip, PUTFH."""
        r.u32(), r.u32()
        r.fixed(16)
        for _ in range(5):
            r.u32()
        if skip:
            r.u32(), r.u32()

    def ask(self, what, uid, gid, fh, name, arg):
        put = (22, opaque(fh))

        def status(*ops):
            self.compound(uid, gid, [put] + list(ops))
            return self.status

        if what == "getattr":
            return status((9, struct.pack(">LL", 1, 1 << 1)))
        if what == "getacl":
            return status((9, struct.pack(">LL", 1, 1 << 12)))
        if what == "setacl":
            ace = struct.pack(">LLLL", 1, 0, 0, 0x1F01FF) + opaque(b"EVERYONE@")
            return status((34, b"\0" * 16 + struct.pack(">LL", 1, 1 << 12) + opaque(ace)))
        if what == "access":
            r = self.compound(uid, gid, [put, (3, struct.pack(">L", ACCESS_ALL))])
            if self.status != 0:
                return -1
            self.results(r, True)
            r.u32(), r.u32(), r.u32()
            return r.u32()
        if what == "lookup":
            return status((15, opaque(name.encode())))
        if what == "readdir":
            return status((26, struct.pack(">QQLL", 0, 0, 4096, 4096) + struct.pack(">LL", 1, 1 << 11)))
        if what == "read":
            return status((25, b"\0" * 16 + struct.pack(">QL", 0, 4)))
        if what == "write":
            return status((38, b"\0" * 16 + struct.pack(">QL", 0, 2) + opaque(b"d")))
        if what == "setmode":
            return status((34, b"\0" * 16 + struct.pack(">LLL", 2, 0, 1 << 1) + opaque(struct.pack(">L", arg))))
        if what == "setowner":
            return status((34, b"\0" * 16 + struct.pack(">LLL", 2, 0, 1 << 4) + opaque(opaque(str(arg).encode()))))
        if what == "setsize":
            return status((34, b"\0" * 16 + struct.pack(">LL", 1, 1 << 4) + opaque(struct.pack(">Q", arg))))
        if what in ("openread", "openwrite"):
            how = 1 if what == "openread" else 2
            owner = opaque(b"u%d" % uid)
            args = struct.pack(">LLLQ", 0, how, 0, self.clientid) + owner + struct.pack(">L", 0) + struct.pack(">L", 4)
            r = self.compound(uid, gid, [put, (18, args)])
            got = self.status
            if got == 0:
                self.results(r, True)
                r.u32(), r.u32()
                stateid = r.fixed(16)
                self.compound(uid, gid, [put, (4, struct.pack(">L", 0) + stateid)])
                if self.status != 0:
                    raise SystemExit("cannot close: %d" % self.status)
            return got
        if what == "create":
            args = struct.pack(">LLLQ", 0, 2, 0, self.clientid) + opaque(b"u%d" % uid) + struct.pack(">LL", 1, 1) + struct.pack(">LL", 0, 0)
            r = self.compound(uid, gid, [put, (18, args + struct.pack(">L", 0) + opaque(name.encode())), (10, b"")])
            got = self.status
            if got == 0:
                self.results(r, True)
                r.u32(), r.u32()
                stateid = r.fixed(16)
                r.u32(), r.fixed(8), r.fixed(8), r.u32()
                for _ in range(r.u32()):
                    r.u32()
                r.u32()
                r.u32(), r.u32()
                new = r.opaque()
                self.compound(uid, gid, [(22, opaque(new)), (4, struct.pack(">L", 0) + stateid)])
                if self.status != 0:
                    raise SystemExit("cannot close what was made: %d" % self.status)
            return got
        if what == "mkdir":
            return status((6, struct.pack(">L", 2) + opaque(name.encode()) + struct.pack(">LL", 0, 0)))
        if what in ("remove", "rmdir"):
            return status((28, opaque(name.encode())))
        raise SystemExit("no such asking: " + what)


OWNER = "user.amber.owner"


def owner_of(path):
    try:
        return os.getxattr(os.path.join(ROOT, path), OWNER)
    except OSError:
        return None


def give_back(path, owner):
    at = os.path.join(ROOT, path)
    if owner is None:
        os.removexattr(at, OWNER)
    else:
        os.setxattr(at, OWNER, owner)


def put_back(what, path, name):
    """Undoes what an asking did to the names in a directory."""
    at = os.path.join(ROOT, path, name)
    if what == "create":
        os.remove(at)
    elif what == "mkdir":
        os.rmdir(at)
    elif what == "remove":
        with open(at, "w") as f:
            f.write("data")
    elif what == "rmdir":
        os.mkdir(at, 0o770)


def main():
    smb, three, four, handles = {}, NFS3(), NFS41(), {}
    for line in sys.stdin:
        out = []
        for a in json.loads(line):
            via, what, path = a["via"], a["what"], a["path"]
            if what == "handles":  # while everybody may do everything
                handles = {"": three.root(a["uid"])}
                for p in a["paths"]:
                    up, _, name = p.rpartition("/")
                    st, handles[p] = three.lookup(a["uid"], a["uid"], handles[up], name)
                    if st != 0:
                        raise SystemExit("no handle of %s: %d" % (p, st))
                out.append(0)
            elif via in DIALECTS:
                key = via, a["user"]
                if key not in smb:
                    smb[key] = SMB(via, a["user"], a["share"])
                out.append(smb[key].ask(what, path, a.get("mask", 0)))
            else:
                client = three if via == "nfs3" else four
                owner = owner_of(path) if what == "setowner" else None
                got = client.ask(what, a["uid"], a["uid"], handles[path], a.get("name", ""), a.get("arg", 0))
                if got == 0 and what == "setowner":
                    give_back(path, owner)
                if got == 0 and what in ("create", "mkdir", "remove", "rmdir"):
                    put_back(what, path, a["name"])
                out.append(got)
        print(json.dumps(out), flush=True)


main()
