#!/usr/bin/python3
"""Quotas over SMB, asked and set by python3-impacket.

  quota.py PORT USER SHARE                      prints the quotas that USER is told: SID used soft hard
  quota.py PORT USER SHARE SID SOFT HARD        sets one; -1 for no bound

The password is that of the demo.
"""

import struct
import sys

from impacket.ldap.ldaptypes import LDAP_SID
from impacket.smb3structs import FILE_DIRECTORY_FILE, FILE_OPEN, FILE_SHARE_READ
from impacket.smbconnection import SMBConnection

QUOTA = 4


def main():
    port, user, share = int(sys.argv[1]), sys.argv[2], sys.argv[3]
    conn = SMBConnection("127.0.0.1", "127.0.0.1", sess_port=port, preferredDialect=0x0300)
    conn.login(user, user + "-at-larkfell")
    smb = conn.getSMBServer()
    tree = smb.connectTree(share)
    root = smb.create(tree, "", 0x1, FILE_SHARE_READ, FILE_DIRECTORY_FILE, FILE_OPEN, 0)
    if len(sys.argv) > 4:
        sid = LDAP_SID()
        sid.fromCanonical(sys.argv[4])
        raw = sid.getData()
        soft, hard = (int(n) & 0xFFFFFFFFFFFFFFFF for n in sys.argv[5:7])
        blob = struct.pack("<IIQQQQ", 0, len(raw), 0, 0, soft, hard) + raw
        smb.setInfo(tree, root, blob, infoType=QUOTA, fileInfoClass=0)
        print("done")
        return
    ask = struct.pack("<BBHIII", 0, 1, 0, 0, 0, 0)
    told = smb.queryInfo(tree, root, inputBlob=ask, infoType=QUOTA, fileInfoClass=0)
    while told:
        after, length = struct.unpack("<II", told[:8])
        used, soft, hard = struct.unpack("<QQQ", told[16:40])
        name = lambda n: "none" if n == 0xFFFFFFFFFFFFFFFF else str(n)
        print(LDAP_SID(told[40 : 40 + length]).formatCanonical(), used, name(soft), name(hard))
        if not after:
            break
        told = told[after:]


try:
    main()
except Exception as refused:
    print("refused:", refused)
