#!/usr/bin/python3
"""What is stored below a directory, counted by a program that shares nothing with the service.

  count.py DIRECTORY UID GID   prints JSON: bytes and files in all, by uid and by gid; UID and GID
                               are whose it is that has no owner of its own
"""

import json
import os
import sys


def main():
    top, uid, gid = sys.argv[1], sys.argv[2], sys.argv[3]
    total, owners, groups, seen = [0, 0], {}, {}, set()

    def count(path):
        st = os.lstat(path)
        if st.st_ino in seen:
            return
        seen.add(st.st_ino)
        who = (uid, gid)
        try:
            text = os.getxattr(path, "user.amber.owner", follow_symlinks=False).decode()
            who = tuple(text.split(":")[:2])
        except OSError:
            pass
        for sums in (total, owners.setdefault(who[0], [0, 0]), groups.setdefault(who[1], [0, 0])):
            sums[0] += st.st_size
            sums[1] += 1

    count(top)
    for at, dirs, files in os.walk(top):
        for name in dirs + files:
            count(os.path.join(at, name))
    json.dump({"total": total, "owners": owners, "groups": groups}, sys.stdout)


main()
