# What a machine goes through in years, in one go: the service is killed, upgraded, and brought back from a backup on another machine, while the Linux
# kernel's own NFS client holds a file open and locked and writes. PORT is put before it. See drill_test.go.
set -euo pipefail
mkdir -p /a
mount.nfs -o "vers=4.1,port=$PORT,proto=tcp,sec=sys,hard" 10.0.2.2:/scratch /a
cat >/tmp/work <<'WORK'
set -euo pipefail
umask 022
mkdir /a/drill
cd /a/drill
exec 8>>night.log
flock -x 8
part=0
while [[ ! -e enough ]]; do
  part=$((part + 1))
  head -c 300000 /dev/urandom >/tmp/part
  cp /tmp/part "part$part"
  sync "part$part"
  sha256sum </tmp/part >>/tmp/sums
  echo "part $part" >&8
  echo "part $part" >>/tmp/log
  sync night.log
  echo "$part" >at.new
  # What was done just before the service was killed is not known to have been: a rename that is sent again finds nothing.
  mv at.new at 2>/dev/null || [[ ! -e at.new && $(<at) == "$part" ]]
  ls >/dev/null # what is there now is known anew
done
for i in $(seq "$part"); do sha256sum <"part$i"; done >/tmp/sums.after
[[ $(sha256sum </tmp/sums) == "$(sha256sum </tmp/sums.after)" ]] || { echo 'NOT every part is what was written'; exit 1; }
echo "ok  every part is what was written"
[[ $(sha256sum </tmp/log) == "$(sha256sum <night.log)" ]] || { echo 'NOT the file that was held open has every line'; exit 1; }
echo "ok  the file that was held open has every line"
flock -n -x /a/drill/night.log true 2>/dev/null && { echo 'NOT the lock is held'; exit 1; }
echo "ok  the lock is held"
cp /tmp/sums sums
sync sums
WORK
setpriv --reuid 2102 --regid 3001 --clear-groups bash /tmp/work
umount /a
