# A working day over SMB with the Linux kernel's own client, in the guest of test/lab. PORT and VERSION are
# put before it. Two mounts with connections of their own are two machines, as far as the gateway can tell.
set -euo pipefail
mkdir -p /a /b
options=port=$PORT,username=piran,password=piran-at-larkfell,vers=$VERSION
mount.cifs -o "$options" //10.0.2.2/nightlog /a
mount.cifs -o "$options,nosharesock,cache=none,actimeo=0" //10.0.2.2/nightlog /b
same() { # what: expected, got
  if [[ $2 != "$3" ]]; then
    printf 'NOT %s: wanted %q, got %q\n' "$1" "$2" "$3"
    exit 1
  fi
  printf 'ok  %s\n' "$1"
}

same 'reads a file' 'Observer: piran' "$(sed -n 2p /a/2026/03/2026-03-01.txt)"
same 'reads it whatever the case' 'Observer: piran' "$(sed -n 2p /b/2026/03/2026-03-01.TXT)"

head -c 9000001 /dev/urandom >/tmp/plate
cp /tmp/plate /a/plate.fits
same 'a copy is the same elsewhere' "$(sha256sum </tmp/plate)" "$(sha256sum </b/plate.fits)"
touch -d 2026-03-01T22:10:00Z /a/plate.fits
same 'times are kept' '2026-03-01 22:10:00 +0000' "$(TZ=UTC stat -c %y /b/plate.fits | sed 's/\.0*//')"
truncate -s 5G /a/sparse
same 'a large sparse file' 5368709120 "$(stat -c %s /b/sparse)"
printf x | dd of=/a/sparse bs=1 seek=5000000000 conv=notrunc status=none
same 'and what is far out in it' x "$(dd if=/b/sparse bs=1 skip=5000000000 count=1 status=none)"
rm /a/sparse

written() { sed -n 's/.*Bytes written: //p' /proc/fs/cifs/Stats | paste -sd+; }
was=$(written)
cp /a/plate.fits /a/copied.fits
same 'a copy within the gateway, nothing of it over the wire' "$was" "$(written)"
same 'and the same as what was copied' "$(sha256sum </tmp/plate)" "$(sha256sum </b/copied.fits)"
fallocate -p -o 65536 -l 2097152 /a/copied.fits
fallocate -z -o 4000000 -l 500000 /a/copied.fits
head -c 65536 /tmp/plate >/tmp/holed
head -c 2097152 /dev/zero >>/tmp/holed
dd if=/tmp/plate iflag=fullblock,skip_bytes skip=2162688 bs=1837312 count=1 status=none >>/tmp/holed
head -c 500000 /dev/zero >>/tmp/holed
tail -c +4500001 /tmp/plate >>/tmp/holed
same 'holes in it, and what is around them' "$(sha256sum </tmp/holed)" "$(sha256sum </b/copied.fits)"
rm /a/copied.fits

name=$'nai\xcc\x88ve 🔭 Märzplatten'
echo combining >"/a/$name"
same 'names with combining marks' combining "$(cat "/b/$name")"
rm "/b/$name"

# A directory from of old is there, with each byte in some name; see lab_test.go.
same 'names that are not UTF-8 are shown' 254 "$(find /a/old*/ -type f -print0 | tr -dc '\0' | wc -c)"
same 'and read, each under its own' 254 "$(find /b/old*/ -type f -exec cat {} + | sort -u | grep -c .)"
mv /a/old* /a/renamed
same 'and renamed' 254 "$(find /b/renamed -type f -print0 | tr -dc '\0' | wc -c)"
rm -r /a/renamed

echo one >/a/one
exec 7</a/one
mv /a/one /a/two
same 'reads on after a rename' one "$(cat <&7)"
exec 7<&-
echo three >/a/three
mv /a/three /a/two
same 'a rename replaces' three "$(cat /b/two)"
rm /a/two

same 'lists a hundred thousand names' '100000 100000' "$(ls -f /b/many | grep -c ^f) $(ls -f /b/many | sort -u | grep -c ^f)"
mkdir /a/few
for i in $(seq 500); do : >"/a/few/f$i"; done
same 'lists what was just made' 500 "$(ls /b/few | wc -l)"
rm -r /a/few

(
  flock -x 9
  echo held >/tmp/held
  until [[ -e /tmp/tried ]]; do sleep 0.1; done
  sleep 1
) 9>/a/lock &
until [[ -e /tmp/held ]]; do sleep 0.1; done
same 'a lock binds the other mount' refused "$(flock -n -x /b/lock echo got 2>/dev/null || echo refused)"
: >/tmp/tried
same 'and is waited for' got "$(flock -x /b/lock echo got)"
wait
rm /a/lock

git init -q /a/repo 2>/dev/null
cp -r /usr/lib/git-core/mergetools /a/repo/
git -C /a/repo add .
git -C /a/repo -c user.name=piran -c user.email=piran@larkfell.example commit -qm 'Night work'
git clone -q /b/repo /b/clone 2>/dev/null
same 'git commits and clones' "$(cd /a/repo/mergetools && cat * | sha256sum)" "$(cd /b/clone/mergetools && cat * | sha256sum)"
rm -rf /a/repo /b/clone

# A limit is set while this goes on, and taken away again; see lab_test.go.
mkdir /a/work
cd /a/work
echo now >limit-me
until [[ -s limited ]]; do sleep 0.2; done
most=$(cat limited)
same 'df shows the limit' "$((most >> 20)) MiB" "$(($(df -B1 --output=size . | tail -1) >> 20)) MiB"
head -c 8000000 /dev/urandom >/tmp/large
same 'writing ends at the limit' 'No space left on device' "$(dd if=/tmp/large of=large bs=64k oflag=direct 2>&1 | grep -o 'No space left on device' | head -1)"
same 'and what was taken is what was written' "$(head -c "$(stat -c %s /b/work/large)" /tmp/large | sha256sum)" "$(sha256sum </b/work/large)"
same 'nothing can be made longer' 1 "$(dd if=/dev/zero of=large bs=1M count=8 oflag=append conv=notrunc,fsync 2>/dev/null; echo $?)"
rm large
same 'there is room again' 0 "$(head -c 3000000 /tmp/large >large; sync large; echo $?)"
rm large
border() { fio --name=border --filename=large --size="$1" --rw=randwrite --bs=64k --ioengine=psync --direct=1 --fallocate=none --end_fsync=1 --verify=crc32c "$2" --verify_fatal=1 >/tmp/fio 2>&1 && echo verified || grep -m2 -iE 'err|fail|verify' /tmp/fio; }
room=$((($(df -B1 --output=avail . | tail -1) - $(stat -f -c %S .)) >> 16 << 16)) # what df says is rounded up to a block
same 'fio fills it up to the limit and verifies' verified "$(border $room --do_verify=1)"
same 'and gets no further' 1 "$(dd if=/dev/zero of=large bs=1M count=8 oflag=append conv=notrunc,fsync 2>/dev/null; echo $?)"
same 'which leaves what it wrote' verified "$(border $room --verify_only)"
rm large
echo now >let-me
until [[ -e let ]]; do sleep 0.2; done
cp /tmp/large large
same 'and without the limit no end' "$(sha256sum </tmp/large)" "$(sha256sum <large)"
rm -f large limit-me limited let-me let
cd /

# Two mounts that cache what they may: each sees what the other has just changed.
mkdir /c
mount.cifs -o "$options,nosharesock,hard" //10.0.2.2/nightlog /c
seen=0
for i in $(seq 20); do
  echo "$i, by one" >/a/work/both
  [[ $(cat /c/work/both) == "$i, by one" ]] || break
  echo "$i, by the other" >/c/work/both
  [[ $(cat /a/work/both) == "$i, by the other" ]] || break
  seen=$i
done
same 'what one mount caches, the other changes' 20 $seen
exec 6<>/a/work/both
echo 'written late' >&6
same 'and what one has not written yet, the other reads' 'written late' "$(head -1 /c/work/both)"
exec 6>&-
rm /c/work/both

# A directory that one mount has listed, it lists again without asking, until the other changes something in it.
looked() { echo $(($(sed -n 's/^QueryDirectories: \([0-9]*\) .*/\1/p' /proc/fs/cifs/Stats | paste -sd+))); }
mkdir /a/work/listed
echo 1 >/a/work/listed/one
sleep 3 # what was written is closed a moment later
ls /c/work/listed >/dev/null
was=$(looked)
for i in $(seq 10); do ls /c/work/listed >/dev/null; done
same 'a directory is listed again without asking' "$was" "$(looked)"
echo 2 >/a/work/listed/two
same 'and what the other makes in it is there' 'one two' "$(echo $(ls /c/work/listed))"
ls /c/work/listed >/dev/null
mv /a/work/listed/one /a/work/listed/three
same 'and what it renames' 'three two' "$(echo $(ls /c/work/listed))"
ls /c/work/listed >/dev/null
rm -r /a/work/listed
sleep 3 # a moment passes before a client believes that a name which it knows is gone, and kernels before 6.12 can crash if they are asked within it
same 'and it removes what the first keeps open for its cache alone' gone "$(ls /c/work/listed >/dev/null 2>&1 || echo gone)"

# The connection is cut fifty times while this file is held open and written; see lab_test.go.
exec 8<>/c/work/long
echo now >/c/work/cut-me
: >/tmp/long
pieces=0
until [[ -e /c/work/cut ]]; do
  head -c 30000 /dev/urandom >/tmp/more
  cat /tmp/more >>/tmp/long
  until dd if=/tmp/more of=/c/work/long bs=30000 seek=$pieces conv=notrunc,fsync status=none 2>/dev/null; do sleep 0.1; done
  pieces=$((pieces + 1))
  sleep 0.1
done
same 'a file held open over fifty cuts of the connection' "$(sha256sum </tmp/long)" "$(sha256sum <&8)"
exec 8>&-
same 'and what was written meanwhile' "$(sha256sum </tmp/long)" "$(sha256sum </c/work/long)"
rm /c/work/long /c/work/cut /c/work/cut-me
umount /c

# The gateway is killed while this goes on, and started again; see lab_test.go. What was open just then does not outlive
# it, may fail, and is copied again.
mkdir /a/work/copies
for i in $(seq 40); do
  head -c 400000 /dev/urandom >/tmp/part
  until cp /tmp/part /a/work/copies/$i 2>/dev/null; do sleep 0.2; done
  sha256sum </tmp/part >>/tmp/sums
  [[ $i != 5 ]] || { echo now >/a/work/kill-the-service; } 2>/dev/null || true
done
for i in $(seq 40); do sha256sum </a/work/copies/$i; done >/tmp/sums.after
same 'a copy over a restart of the service' "$(sha256sum </tmp/sums)" "$(sha256sum </tmp/sums.after)"
same 'the service was started anew' started "$(cat /a/work/restarted)"

# And five times more, while a file on a share on which that outlasts the service is held open and written, and another is locked.
mount.cifs -o "$options,nosharesock,hard" //10.0.2.2/nightlog-kept /c
same 'the share says that what is open on it is kept' 1 "$(grep -c 'CONTINUOUS AVAILABILITY' /proc/fs/cifs/DebugData)"
exec 8<>/c/work/kept 9<>/c/work/lock
flock -x 9
until echo now >/a/work/restart-me; do sleep 0.2; done 2>/dev/null # its connection was broken as well
: >/tmp/long
pieces=0
until [[ -e /c/work/restarts ]]; do
  head -c 30000 /dev/urandom >/tmp/more
  cat /tmp/more >>/tmp/long
  # What is under way just as the connection breaks, the kernel does not ask again.
  until dd if=/tmp/more of=/c/work/kept bs=30000 seek=$pieces conv=notrunc,fsync status=none 2>/dev/null; do sleep 0.1; done
  pieces=$((pieces + 1))
  sleep 0.1
done
until ls /a/work >/dev/null 2>&1; do sleep 0.2; done
same 'a file held open over five restarts' "$(sha256sum </tmp/long)" "$(sha256sum <&8)"
same 'and what was written meanwhile' "$(sha256sum </tmp/long)" "$(sha256sum </a/work/kept)"
same 'what was locked before them is locked' refused "$(flock -n -x /a/work/lock echo got 2>/dev/null || echo refused)"
exec 8>&- 9>&-
same 'until it is let go' got "$(flock -x /a/work/lock echo got)"
rm /c/work/kept /c/work/lock
umount /c
# What was opened just as the service was killed, and whose client never heard of it, is kept for a minute, and its name with it.
for i in $(seq 120); do
  rm -rf /a/work 2>/dev/null && break
  sleep 1
done

same 'leaves nothing behind' '2026 README.txt many plate.fits' "$(echo $(ls /b))"
rm /a/plate.fits
umount /a /b

day() { # how, version: a day's work by two mounts in short, signed or encrypted, by a dialect
  local with=${options/vers=$VERSION/vers=$2},$1,nosharesock
  mount.cifs -o "$with" //10.0.2.2/nightlog /a
  mount.cifs -o "$with,cache=none,actimeo=0" //10.0.2.2/nightlog /b
  mkdir /a/day
  cp /tmp/plate /a/day/over.fits
  same "$1 over $2: a copy is what it was" "$(sha256sum </tmp/plate)" "$(sha256sum </b/day/over.fits)"
  touch -d 2026-03-01T22:10:00Z /a/day/over.fits
  printf more >>/a/day/over.fits
  truncate -s 9000003 /a/day/over.fits
  printf x | dd of=/a/day/over.fits bs=1 seek=100 conv=notrunc status=none
  cp -r /usr/lib/git-core/mergetools /a/day/tree
  mv /a/day/tree /a/day/moved
  exec 7</a/day/moved/vimdiff
  mv /a/day/moved/vimdiff /a/day/moved/renamed
  printf 'one\n' >/a/day/one
  printf 'three\n' >/a/day/three
  mv /a/day/three /a/day/one
  for i in $(seq 30); do : >"/a/day/moved/f$i"; done
  same "$1 over $2: what was written, cut, moved and replaced" "$( (head -c 100 /tmp/plate; printf x; tail -c +102 /tmp/plate; printf mo) | sha256sum) three 30" \
    "$(sha256sum </b/day/over.fits) $(cat /b/day/ONE) $(ls /b/day/moved | grep -c '^f[0-9]*$')"
  same "$1 over $2: a tree, and a file that is open" "$(cat /usr/lib/git-core/mergetools/* | sha256sum) $(sha256sum </usr/lib/git-core/mergetools/vimdiff)" \
    "$(cd /b/day/moved && cat $(ls /usr/lib/git-core/mergetools | sed s/^vimdiff\$/renamed/) | sha256sum) $(sha256sum <&7)"
  exec 7<&-
  (
    flock -x 9
    same "$1 over $2: a lock binds the other" refused "$(flock -n -x /b/day/lock echo got 2>/dev/null || echo refused)"
  ) 9>/a/day/lock
  rm -r /a/day
  same "$1 over $2: and nothing is left" gone "$([[ -e /b/day ]] || echo gone)"
  umount /a /b
}
for v in 2.1 3.0 3.02 3.1.1; do # signed, and encrypted where the client can
  day sign $v
  [[ $v == 2.1 ]] || day seal $v
done

mount.cifs -o "${options//piran/wren}" //10.0.2.2/nightlog /a
entries() { getcifsacl -r /a 2>/dev/null | sed -n 's/^ACL:S-1-5-21-[0-9]*-[0-9]*-[0-9]*-/ACL:/; s/^ACL:/ACL:/p'; }
domain=$(getcifsacl -r /a 2>/dev/null | sed -n 's/^OWNER:\(S-1-5-21-[0-9]*-[0-9]*-[0-9]*\)-.*/\1/p')
entries >/tmp/entries
same 'getcifsacl shows our entries' 'ACL:536870913:0x0/0x3/0x1301ff' "$(head -1 /tmp/entries)"
setcifsacl -a "ACL:$domain-536870915:ALLOWED/OI|CI/0x1200a9" /a 2>/dev/null
same 'setcifsacl adds one' 'ACL:536870915:0x0/0x3/0x1200a9' "$(entries | grep 536870915)"
setcifsacl -D "ACL:$domain-536870915:ALLOWED/OI|CI/0x1200a9" /a 2>/dev/null
same 'and takes it away, the others as they were' "$(cat /tmp/entries)" "$(entries)"
same 'of a file, who may not is refused' 255 "$(setcifsacl -a "ACL:$domain-536870915:ALLOWED/0x0/0x1200a9" /a/README.txt >/dev/null 2>&1; echo $?)"
umount /a

mount.cifs -o "$options,nosharesock" //10.0.2.2/nightlog-links /a
same 'where clients are told of links, they are links' '../../README.txt ../../../elsewhere ../03' "$(echo $(readlink /a/2026/links/{here,out,nights}))"
same 'that the client follows' "$(sha256sum </a/README.txt)" "$(sha256sum </a/2026/links/here)"
same 'on the way to something, too' "$(ls /a/2026/03 | sha256sum)" "$(ls /a/2026/links/nights/ | sha256sum)"
rm /a/2026/links/out
umount /a
mount.cifs -o "$options,nosharesock" //10.0.2.2/nightlog /a
same 'elsewhere they are what they lead to' 'here nights Larkfell' "$(echo $(ls /a/2026/links) $(head -c 8 /a/2026/links/here))"
umount /a

echo '10.0.2.2 barn' >>/etc/hosts
mount.cifs -o "$options" //barn/log /a
same 'by the name of an older server, what took the place of its share' "$(printf 'Larkfell')" "$(head -c 8 /a/README.txt)"
umount /a
mount.cifs -o "$options" //barn/march /a
same 'or what it is referred to elsewhere' 2026-03-01.txt "$(ls /a | head -1)"
umount /a

for how in guest sec=none username=guest,password=; do
  mount.cifs -o "port=$PORT,vers=$VERSION,$how" //10.0.2.2/nightlog-guests /a
  same "a guest reads ($how)" Larkfell "$(head -c 8 /a/README.txt)"
  same 'and alters nothing' 1 "$(echo forged 2>/dev/null >/a/README.txt; echo $?)"
  same 'nor comes in where guests are not taken' 32 "$(mount.cifs -o "port=$PORT,vers=$VERSION,$how" //10.0.2.2/nightlog /b >/dev/null 2>&1; echo $?)"
  umount /a
done

same 'a wrong password is refused' 32 "$(mount.cifs -o "${options/-at-/-on-}" //10.0.2.2/nightlog /a >/dev/null 2>&1; echo $?)"
same 'who may not is refused' 32 "$(mount.cifs -o "${options//piran/orla}" //10.0.2.2/nightlog /a >/dev/null 2>&1; echo $?)"
mount.cifs -o "${options//piran/bettany}" //10.0.2.2/plates /a
cp /tmp/plate /a/2026/plate-0300.fits
same 'who may add, adds' "$(sha256sum </tmp/plate)" "$(sha256sum </a/2026/plate-0300.fits)"
same 'and alters nothing' 1 "$(echo forged 2>/dev/null >/a/2026/plate-0300.fits; echo $?)"
umount /a
echo "all of it, over SMB $VERSION"
