# A working day over NFS with the Linux kernel's own client, in the guest of test/lab. PORT, VERSION and LOCKS
# are put before it. Two mounts that share nothing are two machines, as far as the gateway can tell. The
# work is done as svc-reduce, whose number the gateway knows; root is squashed.
set -euo pipefail
mkdir -p /a /b /p
options=vers=$VERSION,port=$PORT,proto=tcp,sec=sys,hard,nosharecache
[[ $VERSION != 3 ]] || options=$options,mountport=$PORT
[[ $LOCKS == yes ]] || options=$options,nolock
if [[ $VERSION == 3 && $LOCKS == yes ]]; then # its locks have a protocol of their own, and two daemons
  mkdir -p /run/rpcbind /run/sendsigs.omit.d /var/lib/nfs/sm /var/lib/nfs/sm.bak
  grep -q ^_rpc: /etc/passwd || printf '_rpc:x:105:65534::/run/rpcbind:/bin/false\nstatd:x:106:65534::/var/lib/nfs:/bin/false\nnobody:x:65534:65534::/:/bin/false\n' >>/etc/passwd
  grep -q ^nogroup: /etc/group || printf 'nogroup:x:65534:\n' >>/etc/group
  grep -qs ^sunrpc /etc/services || printf 'sunrpc 111/tcp portmapper\nsunrpc 111/udp portmapper\n' >>/etc/services
  rpcbind -w
  rpc.statd --no-notify
fi
mount.nfs -o "$options" 10.0.2.2:/scratch /a
mount.nfs -o "$options,noac,lookupcache=none" 10.0.2.2:/scratch /b
mount.nfs -o "${options/,hard/,hard,ro}" 10.0.2.2:/plates /p
cat >/tmp/work <<'WORK'
set -euo pipefail
umask 022
export HOME=/tmp/home
mkdir -p $HOME
same() { # what: expected, got
  if [[ $2 != "$3" ]]; then
    printf 'NOT %s: wanted %q, got %q\n' "$1" "$2" "$3"
    exit 1
  fi
  printf 'ok  %s\n' "$1"
}
refused() { # what, command...
  local what=$1
  shift
  if "$@" >/dev/null 2>&1; then
    echo "NOT $what: it was let through"
    exit 1
  fi
  printf 'ok  %s\n' "$what"
}

same 'reads a file' 'Room for' "$(cut -c1-8 /a/README.txt)"
same 'sees whose it is' '2102 3000' "$(stat -c '%u %g' /a/README.txt)"
mkdir /a/work
cd /a/work

head -c 9000001 /dev/urandom >/tmp/plate
cp /tmp/plate plate.fits
same 'a copy is the same elsewhere' "$(sha256sum </tmp/plate)" "$(sha256sum </b/work/plate.fits)"
same 'the directory gives its group' 3000 "$(stat -c %g plate.fits)"
same 'and its setgid bit to directories' 'drwxr-sr-x' "$(stat -c %A /a/work)"
touch -d 2026-03-01T22:10:00Z plate.fits
same 'times are kept' '2026-03-01 22:10:00 +0000' "$(TZ=UTC stat -c %y /b/work/plate.fits | sed 's/\.0*//')"
chmod 640 plate.fits
same 'modes are kept' 640 "$(stat -c %a /b/work/plate.fits)"
chmod 400 plate.fits
refused 'a mode binds' bash -c 'echo >>plate.fits'
chmod 640 plate.fits
if [[ $VERSION == 3 ]]; then
  setfacl -m u:2003:rw,g:3002:r plate.fits
  same 'an ACL is set, and seen elsewhere' 'user::rw- user:2003:rw- group::r-- group:3002:r-- mask::rw- other::---' "$(echo $(getfacl -cn /b/work/plate.fits))"
  setfacl -b plate.fits
  same 'and taken away' 640 "$(stat -c %a /b/work/plate.fits)"
else
  same 'the mode as an ACL' 'A::OWNER@:rwatTcCy' "$(nfs4_getfacl plate.fits | grep ^A::OWNER@)"
  nfs4_setfacl -a A::2003:rw plate.fits
  same 'an ACL is set, and seen elsewhere' 'A::2003:rwatcy' "$(nfs4_getfacl /b/work/plate.fits | grep ^A::2003:)"
  same 'and entries' '3000' "$(nfs4_getfacl /p/index.csv | sed -n 's/^A:[fdg]*g:\([0-9]*\):.*/\1/p' | grep -x 3000)"
fi
truncate -s 5G sparse
same 'a large sparse file' 5368709120 "$(stat -c %s /b/work/sparse)"
printf x | dd of=sparse bs=1 seek=5000000000 conv=notrunc status=none
same 'and what is far out in it' x "$(dd if=/b/work/sparse bs=1 skip=5000000000 count=1 status=none)"
rm sparse

name=$'nai\xcc\x88ve 🔭 Märzplatten'
echo combining >"$name"
same 'names with combining marks' combining "$(cat "/b/work/$name")"
same 'listed as they are' "$name" "$(ls /b/work | grep nai)"
rm "$name"
name=$'alt\xe4r.txt'
echo old >"$name"
same 'a name that is not UTF-8 is the bytes it is' "old $name" "$(cat "/b/work/$name") $(ls /b/work | grep -a ^alt)"
mv "$name" $'alt\xe4r.old'
same 'and is renamed' old "$(cat /b/work/$'alt\xe4r.old')"
rm $'alt\xe4r.old'
mkdir $'bytes\xff'
for i in $(seq 255); do [[ $i == 47 ]] || { printf -v byte "\\x$(printf %x $i)"; : >$'bytes\xff'"/x${byte}y"; }; done
same 'names with each byte' 254 "$(find /b/work/$'bytes\xff' -type f -print0 | tr -dc '\0' | wc -c)"
rm -r $'bytes\xff'
ln -s plate.fits link
ln plate.fits second
same 'links of both kinds' "plate.fits 2" "$(readlink /b/work/link) $(stat -c %h /b/work/second)"
rm link second
mkfifo pipe
same 'a named pipe' p "$(stat -c %A /b/work/pipe | cut -c1)"
rm pipe

echo one >one
exec 7<one
mv one two
same 'reads on after a rename' one "$(cat <&7)"
exec 7<&-
exec 7<two
rm two
same 'reads on after a removal' one "$(cat <&7)"
exec 7<&-
echo three >three
echo four >four
mv three four
same 'a rename replaces' three "$(cat /b/work/four)"
rm four
same 'and nothing stays behind' 'plate.fits' "$(ls -A /b/work | grep -v '^\.nfs')"

same 'lists a hundred thousand names' "100000 100000" "$(ls -f /b/many | grep -c ^f) $(ls -f /b/many | sort -u | grep -c ^f)"

if [[ $VERSION == 4.1 ]]; then # what is delegated is opened without asking, until somebody alters it by the other mount
  opens() { awk '/ mounted on /{on=/ mounted on \/a /} on && /^[[:space:]]*OPEN(_NOATTR)?:/{n+=$2} END{print n}' /proc/self/mountstats; }
  for name in written removed locked; do
    echo one >$name
    for i in 1 2; do read -r x <$name; done
  done
  was=$(opens)
  for i in $(seq 100); do read -r x <written; done
  same 'a hundred opens of what is delegated ask for nothing' "one $was" "$x $(opens)"
  echo two >/b/work/written
  same 'what another writes is seen at once' two "$(cat written)"
  exec 7<removed
  rm /b/work/removed
  same 'what another removes is read on' one "$(cat <&7)"
  exec 7<&-
  if [[ $LOCKS == yes ]]; then
    (
      flock -s 9
      same 'a lock on what is delegated binds another' refused "$(flock -n -x /b/work/locked echo got 2>/dev/null || echo refused)"
    ) 9<locked
  fi
  rm /b/work/written /b/work/locked
fi

if [[ $LOCKS == yes ]]; then
  (
    flock -x 9
    echo held >/tmp/held
    until [[ -e /tmp/tried ]]; do sleep 0.1; done
    sleep 1
  ) 9>lock &
  until [[ -e /tmp/held ]]; do sleep 0.1; done
  same 'a lock binds the other mount' refused "$(flock -n -x /b/work/lock echo got 2>/dev/null || echo refused)"
  : >/tmp/tried
  same 'and is waited for' got "$(flock -x /b/work/lock echo got)"
  wait
  rm lock
fi

cp -r /usr/lib/git-core/mergetools tree
same 'a source tree is copied' "$(cd /usr/lib/git-core/mergetools && cat * | sha256sum)" "$(cd /b/work/tree && cat * | sha256sum)"
git init -q repo 2>/dev/null
cp -r tree repo/
git -C repo add .
git -C repo -c user.name=reduce -c user.email=reduce@larkfell.example commit -qm 'Night work'
git clone -q /b/work/repo clone 2>/dev/null
same 'git commits and clones' "$(cd tree && cat * | sha256sum)" "$(cd /b/work/clone/tree && cat * | sha256sum)"
git -C clone fsck --strict 2>&1 | head -3
rm -rf repo clone tree

refused 'what is read-only is not written' touch /p/new
same 'and is read' 'plate' "$(head -c 5 /p/index.csv)"

# A limit is set while this goes on, and taken away again; see lab_test.go.
echo now >limit-me
until [[ -s /b/work/limited ]]; do sleep 0.2; done # there, nothing is remembered of what was not there
most=$(cat /b/work/limited)
same 'df shows the limit' "$((most >> 20)) MiB" "$(($(df -B1 --output=size . | tail -1) >> 20)) MiB"
head -c 8000000 /dev/urandom >/tmp/large
same 'writing ends at the limit' 'Disk quota exceeded' "$(dd if=/tmp/large of=large bs=64k oflag=direct 2>&1 | grep -o 'Disk quota exceeded' | head -1)"
same 'and what was taken is what was written' "$(head -c "$(stat -c %s /b/work/large)" /tmp/large | sha256sum)" "$(sha256sum </b/work/large)"
same 'nothing can be made longer' 1 "$(dd if=/dev/zero of=large bs=1M count=8 oflag=append conv=notrunc,fsync 2>/dev/null; echo $?)"
if [[ $VERSION == 3 && $LOCKS == yes ]]; then
  same 'quota prints it' "$((most >> 10))" "$(quota -p -w -u 2102 2>/dev/null | awk '$4 ~ /^[0-9]+$/ {print $4}' | tail -1)"
fi
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
until [[ -e /b/work/let ]]; do sleep 0.2; done
cp /tmp/large large
same 'and without the limit no end' "$(sha256sum </tmp/large)" "$(sha256sum <large)"
rm -f large limit-me limited let-me let

# The gateway is killed while this goes on, and started again; see lab_test.go.
mkdir before after
for i in $(seq 40); do head -c 400000 /dev/urandom >/tmp/part; cp /tmp/part before/$i; sha256sum </tmp/part >>/tmp/sums; [[ $i != 5 ]] || echo now >kill-the-service; done
for i in $(seq 40); do sha256sum <before/$i; done >/tmp/sums.after
same 'a copy over a restart of the service' "$(sha256sum </tmp/sums)" "$(sha256sum </tmp/sums.after)"
same 'the service was started anew' started "$(cat /b/work/restarted)"
cd /
rm -rf /a/work
WORK
export LOCKS VERSION
setpriv --reuid 2102 --regid 3001 --clear-groups bash /tmp/work
refuse() { # what: status, command
  if [[ $2 == 0 ]]; then
    echo "NOT $1"
    exit 1
  fi
  printf 'ok  %s\n' "$1"
}
refuse 'root is squashed' "$(touch /a/roots 2>/dev/null; echo $?)"
refuse 'a stranger may not add' "$(setpriv --reuid 4242 --regid 4242 --clear-groups touch /a/strange 2>/dev/null; echo $?)"
umount /a /b /p
refuse 'a host outside the rules does not mount' "$(mount.nfs -o "${options/hard/soft},retry=0" 10.0.2.2:/instruments /a >/dev/null 2>&1; echo $?)"
echo "all of it, over NFS $VERSION"
