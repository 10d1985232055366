#!/usr/bin/python3
"""A client that is busy for a while, to have something to look at: python3-impacket writes a file and reads it again.

  busy.py PORT USER SHARE SECONDS [FILE]     says "begun" when it is, and ends by itself
"""

import os
import sys
import time

from impacket.smbconnection import SMBConnection

port, user, share, seconds = int(sys.argv[1]), sys.argv[2], sys.argv[3], float(sys.argv[4])
name = sys.argv[5] if len(sys.argv) > 5 else f"busy-{user}.bin"
conn = SMBConnection("127.0.0.1", "127.0.0.1", sess_port=port, timeout=60)
conn.login(user, os.environ.get("SMB_PASSWORD", f"{user}-at-larkfell"))
tree = conn.connectTree(share)
READ, WRITE, DELETE = 0x1, 0x2, 0x10000
handle = conn.createFile(tree, name, desiredAccess=0x12019F | DELETE, shareMode=READ)
print("begun", flush=True)
end, block, turn = time.monotonic() + seconds, os.urandom(60_000), 0
while time.monotonic() < end:
    turn += 1
    conn.writeFile(tree, handle, block, (turn % 5) * len(block))
    for _ in range(turn % 4):
        conn.readFile(tree, handle, (turn % 5) * len(block), len(block))
    time.sleep(0.01 * (1 + turn // 20 % 7))
conn.closeFile(tree, handle)
conn.deleteFile(share, name)
conn.logoff()
