#!/usr/bin/python3
"""An SMB client from other hands, to try the gateway with: python3-impacket, on one connection.

  smbtry.py PORT USER          then type: shares, ls SHARE[/PATH], cat SHARE/PATH,
                               put FILE SHARE/PATH, rm SHARE/PATH, mkdir SHARE/PATH,
                               rmdir SHARE/PATH, move SHARE/PATH PATH,
                               write SHARE/PATH BYTES, at its end and over one open handle, quit;
                               and ! before a command of the shell, the connection staying open

The password comes from SMB_PASSWORD; without it, it is that of the demo. SMB_DIALECT
may be 2.1 or 3.0 (this client's 3.1.1 leaves the negotiation out of its hash and so
signs with the wrong key). A command that is refused prints the NTSTATUS and goes on.
"""

import io
import os
import shlex
import sys

from impacket.nmb import NetBIOSError
from impacket.smbconnection import SMBConnection, SessionError

DIALECTS = {"2.1": 0x0210, "3.0": 0x0300}
OPEN = {}  # what is written to, by its path: tree, handle, how far


def split(path):
    share, _, rest = path.partition("/")
    return share, rest.replace("/", "\\")


def run(conn, words):
    command, args = words[0], words[1:]
    if command == "shares":
        for share in conn.listShares():
            print(share["shi1_netname"][:-1], "-", share["shi1_remark"][:-1])
    elif command == "ls":
        share, path = split(args[0])
        for entry in conn.listPath(share, (path + "\\*").lstrip("\\")):
            if entry.get_longname() not in (".", ".."):
                size = "<dir>" if entry.is_directory() else entry.get_filesize()
                print(f"{size:>10}  {entry.get_longname()}")
    elif command == "cat":
        share, path = split(args[0])
        out = io.BytesIO()
        conn.getFile(share, path, out.write)
        print(out.getvalue().decode(errors="replace"), end="")
    elif command == "put":
        share, path = split(args[1])
        with open(args[0], "rb") as source:
            conn.putFile(share, path, source.read)
        print("stored", args[1])
    elif command == "write":
        share, path = split(args[0])
        if args[0] not in OPEN:
            tree = conn.connectTree(share)
            OPEN[args[0]] = [tree, conn.createFile(tree, path), 0]
        tree, handle, at = OPEN[args[0]]
        left = int(args[1])
        while left > 0:
            part = min(left, 60_000)
            conn.writeFile(tree, handle, b"." * part, at)
            at, left = at + part, left - part
            OPEN[args[0]][2] = at
        print("wrote", args[1], "bytes to", args[0])
    elif command == "move":
        share, path = split(args[0])
        conn.rename(share, path, args[1].replace("/", "\\"))
        print("moved", args[0])
    elif command in ("rm", "mkdir", "rmdir"):
        share, path = split(args[0])
        {"rm": conn.deleteFile, "mkdir": conn.createDirectory, "rmdir": conn.deleteDirectory}[command](share, path)
        print("done:", command, args[0])
    else:
        print("no such command:", command)


def main():
    if len(sys.argv) != 3:
        sys.exit(__doc__)
    port, user = int(sys.argv[1]), sys.argv[2]
    password = os.environ.get("SMB_PASSWORD", user + "-at-larkfell")
    dialect = os.environ.get("SMB_DIALECT")
    try:
        conn = SMBConnection("127.0.0.1", "127.0.0.1", sess_port=port,
                             preferredDialect=DIALECTS[dialect] if dialect else None)
        conn.login(user, password)
    except SessionError as e:
        sys.exit(f"{user}: {e}")
    print(f"{user}: signed in, dialect 0x{conn.getDialect():04x}")
    while True:
        if sys.stdin.isatty():
            print(f"{user}> ", end="", flush=True)
        line = sys.stdin.readline()
        if not line or line.strip() in ("quit", "exit"):
            break
        if not line.strip():
            continue
        if not sys.stdin.isatty():
            print(f"{user}> {line.strip()}", flush=True)
        if line.startswith("!"):
            sys.stdout.flush()
            os.system(line[1:])
            continue
        try:
            run(conn, shlex.split(line))
        except SessionError as e:
            print("refused:", e)
        except NetBIOSError:
            print("the connection has been ended")
            return
        except IndexError:
            print("what, and where?")
    conn.close()


main()
