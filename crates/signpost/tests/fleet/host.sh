# A host: what it changes of the system's folders stays with it. $1 is its folder, $2 that of the keys.
mount -t tmpfs tmpfs "$1"
for name in etc usr var; do
    mkdir "$1/$name" "$1/$name.work"
    mount -t overlay overlay -o "lowerdir=/$name,upperdir=$1/$name,workdir=$1/$name.work" "/$name"
done
# A locked account lets nobody in, by key neither.
usermod --password '*' root
mkdir -p /run/sshd
exec /usr/sbin/sshd -D -e -f /dev/null \
    -o "HostKey=$2/host-key" -o "AuthorizedKeysFile=$2/key.pub" -o StrictModes=no -o PidFile=none \
    -o UsePAM=no -o PasswordAuthentication=no -o PermitRootLogin=prohibit-password -o UseDNS=no \
    -o Subsystem="sftp internal-sftp"
