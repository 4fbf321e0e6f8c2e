#!/bin/sh
# Machines for tests: real sshd servers on loopback, each in a mount namespace with /etc, /usr and /opt of its own, above this machine's.
#   farm.sh up DIR PORT...   makes them; DIR/ssh_config knows them as host1, host2 ...
#   farm.sh down DIR         stops them
# DIR/hostN/kind, written before `up`: `plain` (root on a system of Debian's family), `family` (one with another family's paths and command,
# a stand-in), `weak` (an account without rights).
set -e
what=$1 dir=$2
shift 2
if [ "$what" = down ]; then
  for pid in "$dir"/host*/pid; do [ ! -f "$pid" ] || kill "$(cat "$pid")" 2>/dev/null || :; done
  exit 0
fi
mkdir -p /run/sshd "$dir"
chmod 755 "$dir"
ssh-keygen -q -t ed25519 -N '' -f "$dir/id"
n=0
for port in "$@"; do
  n=$((n + 1)) at=$dir/host$n
  mkdir -p "$at"
  for tree in etc usr opt; do mkdir -p "$at/$tree" "$at/work-$tree"; done
  kind=plain
  [ ! -f "$at/kind" ] || kind=$(cat "$at/kind")
  ssh-keygen -q -t ed25519 -N '' -f "$at/key"
  cat > "$at/enter" <<X
#!/bin/sh
# What every connection runs: the same machine each time.
exec unshare -m sh -c '
mount --make-rprivate / && mount -t tmpfs tmpfs /mnt
for t in etc usr opt; do mount -t overlay overlay -o lowerdir=/\$t,upperdir=$at/\$t,workdir=$at/work-\$t /\$t || exit 90; done
# The hook for Java waits for the lock of the package manager, which all of these machines share.
rm -f /etc/ca-certificates/update.d/jks-keystore /etc/ssl/certs/java/cacerts
case $kind in
family)
  rm -f /usr/sbin/update-ca-certificates
  mkdir -p /etc/pki/ca-trust/source/anchors /etc/pki/ca-trust/extracted/pem
  printf "#!/bin/sh\nsleep 0.4\ncat /etc/pki/ca-trust/source/anchors/*.pem > /etc/pki/ca-trust/extracted/pem/tls-ca-bundle.pem 2>/dev/null || :\n" > /usr/local/sbin/update-ca-trust
  chmod 755 /usr/local/sbin/update-ca-trust ;;
weak) exec setpriv --reuid 65534 --regid 65534 --clear-groups sh -c "\$SSH_ORIGINAL_COMMAND" ;;
esac
exec sh -c "\$SSH_ORIGINAL_COMMAND"'
X
  chmod 755 "$at/enter"
  cat > "$at/sshd_config" <<X
Port $port
ListenAddress 127.0.0.1
HostKey $at/key
AuthorizedKeysFile $dir/id.pub
StrictModes no
UsePAM no
PermitRootLogin yes
PasswordAuthentication no
MaxStartups 100
PidFile $at/pid
ForceCommand $at/enter
X
  /usr/sbin/sshd -f "$at/sshd_config" -E "$at/log"
  echo "[127.0.0.1]:$port $(cat "$at/key.pub")" >> "$dir/known_hosts"
  cat >> "$dir/ssh_config" <<X
Host host$n
  HostName 127.0.0.1
  Port $port
  User root
  IdentityFile $dir/id
  IdentitiesOnly yes
  UserKnownHostsFile $dir/known_hosts
X
done
