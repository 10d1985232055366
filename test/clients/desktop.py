#!/usr/bin/python3
"""What a desktop asks of a file server beside files, by a client from other hands: python3-impacket, on one connection.

  desktop.py PORT USER         then type:
    acl SHARE/PATH             owner, group and list of entries, names looked up; hex: as it came
    grant SHARE/PATH WHO MASK FLAGS, deny ..., cut SHARE/PATH, chown SHARE/PATH WHO, again SHARE/PATH (writes back what it read), raw SHARE/PATH HEX
    sids NAME..., names SID...           MS-LSAT
    users, groups, memberships NAME      MS-SAMR
    shares, sessions, files              MS-SRVS, as administrators see them
    share NAME, close FILE, end CLIENT USER
    put SHARE/PATH[:STREAM] TEXT, get SHARE/PATH[:STREAM], streams SHARE/PATH, remove SHARE/PATH:STREAM, rename SHARE/PATH[:STREAM] TO, copy SHARE/PATH:STREAM SHARE/PATH:STREAM
    link SHARE/PATH TARGET [dir|absolute], target SHARE/PATH, unlink SHARE/PATH
    refer \\SERVER\\SHARE\\PATH [ex] (where is it?), at SERVER SHARE (connect to it, by that name)
    open SHARE/PATH, quit

USER may be empty, for nobody. The password comes from SMB_PASSWORD; without it, it is that of the demo. A command that is refused prints why and goes on.
"""

import os
import shlex
import struct
import sys

from impacket.dcerpc.v5 import lsad, lsat, samr, srvs, transport
from impacket.dcerpc.v5.dtypes import MAXIMUM_ALLOWED, NULL, RPC_SID
from impacket.ldap import ldaptypes
from impacket.smbconnection import SMBConnection
from impacket.smb3structs import FILE_CREATE, FILE_DELETE_ON_CLOSE, FILE_DIRECTORY_FILE, FILE_OPEN, FILE_OPEN_IF, FILE_OVERWRITE_IF, FILE_SHARE_DELETE, FILE_SHARE_READ, FILE_SHARE_WRITE, SMB2_0_INFO_SECURITY
from impacket.smb3structs import SMB2CreateContext

OWNER, GROUP, DACL = 1, 2, 4
OPEN_REPARSE_POINT = 0x00200000
PROTECTED, INHERITED = 0x1000, 0x10


class Desk:
    def __init__(self, port, user, password):
        self.port, self.user, self.password = port, user, password
        self.conn = SMBConnection("larkfell", "127.0.0.1", sess_port=port, preferredDialect=0x0300)
        self.conn.login(user, password)
        self.smb = self.conn.getSMBServer()
        self.pipes = {}
        self.trees = {}

    def rpc(self, pipe, uuid):
        if pipe not in self.pipes:
            t = transport.SMBTransport("127.0.0.1", self.port, "\\" + pipe, smb_connection=self.conn)
            dce = t.get_dce_rpc()
            dce.connect()
            dce.bind(uuid)
            self.pipes[pipe] = dce
        return self.pipes[pipe]

    def lsa(self):
        dce = self.rpc("lsarpc", lsat.MSRPC_UUID_LSAT)
        return dce, lsad.hLsarOpenPolicy2(dce, MAXIMUM_ALLOWED | lsat.POLICY_LOOKUP_NAMES)["PolicyHandle"]

    def sids(self, names):
        dce, policy = self.lsa()
        out = []
        for name in names:
            r = lsat.hLsarLookupNames3(dce, policy, [name])
            out.append(r["TranslatedSids"]["Sids"][0]["Sid"].formatCanonical())
        return out

    def names(self, sids):
        dce, policy = self.lsa()
        try:
            r = lsat.hLsarLookupSids2(dce, policy, sids)
        except lsat.DCERPCSessionError as e:
            if not e.packet:
                raise
            r = e.packet  # some, or none, are known
        domains = [d["Name"] for d in r["ReferencedDomains"]["Domains"]]
        out = []
        for t in r["TranslatedNames"]["Names"]:
            i = t["DomainIndex"]
            domain = domains[i] if 0 <= i < len(domains) else ""
            out.append((domain + "\\" if domain else "") + t["Name"])
        return out

    def tree(self, share):
        if share not in self.trees:
            self.trees[share] = self.conn.connectTree(share)
        return self.trees[share]

    def with_file(self, path, access, use, how=FILE_OPEN, options=0):
        share, _, rest = path.partition("/")
        tree = self.tree(share)
        fid = self.smb.create(tree, rest.replace("/", "\\"), access, FILE_SHARE_READ | FILE_SHARE_WRITE | FILE_SHARE_DELETE, options, how, 0)
        try:
            return use(tree, fid)
        finally:
            self.smb.close(tree, fid)

    def descriptor(self, path, parts=OWNER | GROUP | DACL):
        def ask(tree, fid):
            return self.smb.queryInfo(tree, fid, infoType=SMB2_0_INFO_SECURITY, fileInfoClass=0, additionalInformation=parts)
        return ldaptypes.SR_SECURITY_DESCRIPTOR(self.with_file(path, 0x20080, ask))

    def write(self, path, raw, parts, access=0x60080):
        def set_(tree, fid):
            self.smb.setInfo(tree, fid, infoType=SMB2_0_INFO_SECURITY, fileInfoClass=0, inputBlob=raw, additionalInformation=parts)
        self.with_file(path, access, set_)

    def change(self, path, how, parts=DACL, access=0x60080):
        d = self.descriptor(path)
        how(d)
        self.write(path, d.getData(), parts, access)

    def make(self, path, raw, options=0):
        share, _, rest = path.partition("/")
        tree = self.tree(share)
        secured = SMB2CreateContext()
        secured["Next"], secured["NameOffset"], secured["NameLength"], secured["DataOffset"], secured["DataLength"] = 0, 16, 4, 24, len(raw)
        secured["Buffer"] = b"SecD" + bytes(4) + raw
        fid = self.smb.create(tree, rest.replace("/", "\\"), 0x120089, FILE_SHARE_READ, options, FILE_CREATE, 0, createContexts=[secured])
        self.smb.close(tree, fid)


def ace(kind, sid, mask, flags):
    a = ldaptypes.ACE()
    a["AceType"], a["AceFlags"] = kind, flags
    inner = ldaptypes.ACCESS_ALLOWED_ACE() if kind == 0 else ldaptypes.ACCESS_DENIED_ACE()
    inner["Mask"] = ldaptypes.ACCESS_MASK()
    inner["Mask"]["Mask"] = mask
    inner["Sid"] = ldaptypes.LDAP_SID()
    inner["Sid"].fromCanonical(sid)
    a["Ace"] = inner
    return a


def run(desk, words):
    command, args = words[0], words[1:]
    if command == "acl":
        d = desk.descriptor(args[0])
        aces = [(a["AceType"], a["AceFlags"], a["Ace"]["Mask"]["Mask"], a["Ace"]["Sid"].formatCanonical()) for a in d["Dacl"]["Data"]]
        owner, group = d["OwnerSid"].formatCanonical(), d["GroupSid"].formatCanonical()
        names = [n.rpartition("\\")[2] for n in desk.names([owner, group] + [a[3] for a in aces])]
        print("owner", names[0])
        print("group", names[1])
        if d["Control"] & PROTECTED:
            print("inherits nothing")
        for (kind, flags, mask, _), name in zip(aces, names[2:]):
            print("deny " if kind else "allow", name, f"0x{mask:06x}", f"0x{flags:02x}")
    elif command == "hex":
        print(desk.descriptor(args[0]).getData().hex())
    elif command in ("grant", "deny"):
        sid = desk.sids([args[1]])[0]
        new = ace(int(command == "deny"), sid, int(args[2], 0), int(args[3], 0))
        desk.change(args[0], lambda d: d["Dacl"]["Data"].insert(0 if command == "deny" else len(d["Dacl"]["Data"]), new))
        print("done")
    elif command == "cut":
        def cut(d):
            d["Control"] |= PROTECTED
            for a in d["Dacl"]["Data"]:
                a["AceFlags"] &= ~INHERITED
        desk.change(args[0], cut)
        print("done")
    elif command == "again":
        desk.change(args[0], lambda d: None)
        print("done")
    elif command in ("make", "makedir"):
        # With a list of its own from the start, and, where somebody is named, an owner.
        entry = ace(0, desk.sids([args[1]])[0], int(args[2], 0), int(args[3], 0)).getData()
        dacl = struct.pack("<BBHHH", 2, 0, 8 + len(entry), 1, 0) + entry
        owner = b""
        if len(args) > 4:
            sid = ldaptypes.LDAP_SID()
            sid.fromCanonical(desk.sids([args[4]])[0])
            owner = sid.getData()
        raw = struct.pack("<BBHLLLL", 1, 0, 0x8004 | PROTECTED, 20 + len(dacl) if owner else 0, 0, 0, 20) + dacl + owner
        desk.make(args[0], raw, FILE_DIRECTORY_FILE if command == "makedir" else 0)
        print("done")
    elif command == "makeraw":
        desk.make(args[0], bytes.fromhex(args[1]))
        print("done")
    elif command == "raw":
        desk.write(args[0], bytes.fromhex(args[1]), DACL)
        print("done")
    elif command == "chown":
        sid = desk.sids([args[1]])[0]

        def give(d):
            d["OwnerSid"] = ldaptypes.LDAP_SID()
            d["OwnerSid"].fromCanonical(sid)
        desk.change(args[0], give, OWNER, 0xA0080)
        print("done")
    elif command == "sids":
        for sid in desk.sids(args):
            print(sid)
    elif command == "names":
        for name in desk.names(args):
            print(name)
    elif command in ("users", "groups", "memberships"):
        dce = desk.rpc("samr", samr.MSRPC_UUID_SAMR)
        server = samr.hSamrConnect5(dce)["ServerHandle"]
        domains = [d["Name"] for d in samr.hSamrEnumerateDomainsInSamServer(dce, server)["Buffer"]["Buffer"]]
        sid = samr.hSamrLookupDomainInSamServer(dce, server, domains[0])["DomainId"]
        domain = samr.hSamrOpenDomain(dce, server, domainId=sid)["DomainHandle"]
        if command == "memberships":
            rid = samr.hSamrLookupNamesInDomain(dce, domain, [args[0]])["RelativeIds"]["Element"][0]["Data"]
            user = samr.hSamrOpenUser(dce, domain, MAXIMUM_ALLOWED, rid)["UserHandle"]
            print("called", samr.hSamrQueryInformationUser(dce, user, samr.USER_INFORMATION_CLASS.UserFullNameInformation)["Buffer"]["FullName"]["FullName"])
            direct = [g["RelativeId"] for g in samr.hSamrGetGroupsForUser(dce, user)["Groups"]["Groups"]]
            array = samr.SAMPR_PSID_ARRAY()
            element, whose = samr.PSAMPR_SID_INFORMATION(), RPC_SID()
            whose.fromCanonical(f"{sid.formatCanonical()}-{rid}")
            element["SidPointer"] = whose
            array["Sids"].append(element)
            array["Count"] = 1
            aliases = [a["Data"] for a in samr.hSamrGetAliasMembership(dce, domain, array)["Membership"]["Element"]]
            assert sorted(direct) == sorted(aliases), (direct, aliases)
            if direct:
                for name in samr.hSamrLookupIdsInDomain(dce, domain, direct)["Names"]["Element"]:
                    print(name["Data"])
        else:
            enumerate_ = samr.hSamrEnumerateUsersInDomain if command == "users" else samr.hSamrEnumerateAliasesInDomain
            for u in enumerate_(dce, domain)["Buffer"]["Buffer"]:
                print(u["Name"])
    elif command in ("shares", "share", "sessions", "files", "close", "end"):
        dce = desk.rpc("srvsvc", srvs.MSRPC_UUID_SRVS)
        if command == "shares":
            for s in srvs.hNetrShareEnum(dce, 502)["InfoStruct"]["ShareInfo"]["Level502"]["Buffer"]:
                print(s["shi502_netname"][:-1], s["shi502_type"] & 0xFFFFFFFF, s["shi502_path"][:-1], s["shi502_current_uses"])
        elif command == "share":
            s = srvs.hNetrShareGetInfo(dce, args[0] + "\x00", 502)["InfoStruct"]["ShareInfo502"]
            d = ldaptypes.SR_SECURITY_DESCRIPTOR(b"".join(s["shi502_security_descriptor"]))
            sids = [a["Ace"]["Sid"].formatCanonical() for a in d["Dacl"]["Data"]]
            for a, name in zip(d["Dacl"]["Data"], desk.names(sids)):
                print("deny " if a["AceType"] else "allow", name, f"0x{a['Ace']['Mask']['Mask']:06x}")
        elif command == "sessions":
            for s in srvs.hNetrSessionEnum(dce, NULL, NULL, 502)["InfoStruct"]["SessionInfo"]["Level502"]["Buffer"]:
                print(s["sesi502_cname"][:-1], s["sesi502_username"][:-1], s["sesi502_num_opens"])
        elif command == "files":
            for f in srvs.hNetrFileEnum(dce, NULL, NULL, 3)["InfoStruct"]["FileInfo"]["Level3"]["Buffer"]:
                print(f["fi3_id"], f["fi3_permissions"], f["fi3_num_locks"], f["fi3_path_name"][:-1], f["fi3_username"][:-1])
        elif command == "close":
            srvs.hNetrFileClose(dce, int(args[0]))
            print("done")
        else:
            srvs.hNetrSessionDel(dce, args[0] + "\x00", args[1] + "\x00")
            print("done")
    elif command == "put":
        text = args[1].encode()
        desk.with_file(args[0], 0x12019F, lambda tree, fid: desk.smb.write(tree, fid, text, 0, len(text)) if text else None, FILE_OVERWRITE_IF)
        print("done")
    elif command == "get":
        print(desk.with_file(args[0], 0x120089, lambda tree, fid: desk.smb.read(tree, fid, 0, 4096)).decode())
    elif command == "streams":
        raw = desk.with_file(args[0], 0x80, lambda tree, fid: desk.smb.queryInfo(tree, fid, fileInfoClass=22))
        while raw:
            step, size, length, _ = struct.unpack("<LLQQ", raw[:24])
            print(raw[24:24 + size].decode("utf-16le"), length)
            raw = raw[step:] if step else b""
    elif command == "remove":
        desk.with_file(args[0], 0x10000, lambda tree, fid: None, FILE_OPEN, FILE_DELETE_ON_CLOSE)
        print("done")
    elif command == "rename":
        to = args[1].replace("/", "\\").encode("utf-16le")
        info = struct.pack("<B7xQL", 0, 0, len(to)) + to
        desk.with_file(args[0], 0x10080, lambda tree, fid: desk.smb.setInfo(tree, fid, fileInfoClass=10, inputBlob=info))
        print("done")
    elif command == "copy":  # within the server
        def fill(tree, to):
            def copy(other, fid):
                key = desk.smb.ioctl(other, fid, 0x140078, flags=1, maxOutputResponse=32)[:24]
                return desk.smb.ioctl(tree, to, 0x1440F2, flags=1, inputBlob=key + struct.pack("<LLQQLL", 1, 0, 0, 0, int(args[2]), 0), maxOutputResponse=12)
            return desk.with_file(args[0], 0x120089, copy)
        print(struct.unpack("<LLL", desk.with_file(args[1], 0x12019F, fill, FILE_OPEN_IF))[2])
    elif command == "link":
        to = args[1].replace("/", "\\").encode("utf-16le")
        body = struct.pack("<HHHHL", 0, len(to), len(to), len(to), 0 if "absolute" in args else 1) + to + to
        raw = struct.pack("<LHH", 0xA000000C, len(body), 0) + body

        def set_link(tree, fid):
            desk.smb.ioctl(tree, fid, 0x900A4, flags=1, inputBlob=raw)
        desk.with_file(args[0], 0x10110, set_link, FILE_CREATE, OPEN_REPARSE_POINT | (FILE_DIRECTORY_FILE if "dir" in args else 0))
        print("done")
    elif command == "target":
        def ask_link(tree, fid):
            raw = desk.smb.ioctl(tree, fid, 0x900A8, flags=1, maxOutputResponse=16384)
            at, size = struct.unpack("<HH", raw[8:12])
            return raw[20 + at:20 + at + size].decode("utf-16le"), struct.unpack("<L", raw[16:20])[0]
        print(*desk.with_file(args[0], 0x80, ask_link, FILE_OPEN, OPEN_REPARSE_POINT))
    elif command == "unlink":
        desk.with_file(args[0], 0x10000, lambda tree, fid: None, FILE_OPEN, OPEN_REPARSE_POINT | FILE_DELETE_ON_CLOSE)
        print("done")
    elif command == "refer":
        path = args[0].encode("utf-16le")
        if "ex" in args:
            code, body = 0x601B0, struct.pack("<HHLH", 4, 0, 2 + len(path), len(path)) + path
        else:
            code, body = 0x60194, struct.pack("<H", 3) + path + b"\0\0"
        raw = desk.smb.ioctl(desk.tree("IPC$"), None, code, flags=1, inputBlob=body, maxOutputResponse=4096)
        consumed, count, _ = struct.unpack("<HHL", raw[:8])
        version, size, kind, _, ttl, _, _, place = struct.unpack("<HHHHLHHH", raw[8:26])
        rest = raw[8 + place:]
        print(f"{count} place, version {version}, for {consumed} bytes, {ttl} s:", rest.decode("utf-16le").split("\0")[0])
    elif command == "at":
        was, desk.smb._Connection["ServerIP"] = desk.smb._Connection["ServerIP"], args[0]  # by which it names the server
        try:
            tree = desk.smb.connectTree(args[1])
        finally:
            desk.smb._Connection["ServerIP"] = was
        try:
            fid = desk.smb.create(tree, "README.txt", 0x120089, 7, 0, FILE_OPEN, 0)
            print(desk.smb.read(tree, fid, 0, 40).decode())
        finally:
            desk.smb.disconnectTree(tree)
    elif command == "open":
        share, _, rest = args[0].partition("/")
        desk.smb.create(desk.tree(share), rest.replace("/", "\\"), 0x120089, 7, 0, FILE_OPEN, 0)
        print("open")
    else:
        print("there is no", command)


def main():
    port, user = int(sys.argv[1]), sys.argv[2]
    desk = Desk(port, user, os.environ.get("SMB_PASSWORD", f"{user}-at-larkfell"))
    print("signed in", flush=True)
    for line in sys.stdin:
        words = shlex.split(line)
        if not words:
            continue
        if words[0] == "quit":
            break
        try:
            run(desk, words)
        except Exception as e:  # what is refused is what is looked for
            print("refused:", str(e).replace("\n", " ").strip() or repr(e))
        sys.stdout.flush()


main()
