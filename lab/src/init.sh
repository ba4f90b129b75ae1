# Makes fresh namespaces a host: run by its first process, which becomes the manager.
set -e
mount --make-rprivate /
mount -t overlay overlay -o lowerdir=/,upperdir=@DIR@/up,workdir=@DIR@/work @DIR@/root
cd @DIR@/root
mount -t proc proc proc; mount -t sysfs -o ro sysfs sys; mount --rbind /dev dev
mount -t tmpfs tmpfs run; mkdir -p run/lock run/sshd; mount -t tmpfs tmpfs tmp
mount -t tmpfs -o mode=755 tmpfs sys/fs/cgroup
mount -o bind,ro proc/sys proc/sys
# A boot identity of its own, new each time.
cat /proc/sys/kernel/random/uuid > run/boot_id; mount --bind run/boot_id proc/sys/kernel/random/boot_id
if [ ! -e etc/.lab ]; then
  mkdir -p root/.ssh; cp @KEY@ root/.ssh/authorized_keys; chown -R 0:0 root/.ssh; chmod 700 root root/.ssh; chmod 600 root/.ssh/authorized_keys
  rm -f etc/ssh/ssh_host_*; ssh-keygen -q -t ed25519 -N '' -f etc/ssh/ssh_host_ed25519_key
  mkdir -p etc/ssh/sshd_config.d
  printf '%s\n' 'UseDNS no' 'MaxStartups 100:30:200' 'LoginGraceTime 20' > etc/ssh/sshd_config.d/lab.conf
  echo @NAME@ > etc/hostname
  rm -f etc/systemd/system/multi-user.target.wants/* var/lib/systemd/catalog/database
  rm -rf var/log/journal run/log/journal
  # Nor are the shell files of the machine's own account this host's: they would be read at each login.
  rm -f root/.bashrc root/.profile root/.bash_profile root/.bash_login root/.zshenv
  # Who acts on the machine below says nothing of this host.
  rm -rf var/lib/yantro root/.local/state/yantro root/.local/state/yantro-shell
  for unit in systemd-udevd systemd-udev-trigger systemd-sysctl systemd-modules-load systemd-remount-fs systemd-binfmt systemd-networkd \
    systemd-resolved systemd-timesyncd avahi-daemon console-getty getty@tty1 ifupdown networking @MASK@; do
    ln -sf /dev/null etc/systemd/system/$unit.service
  done
  for unit in apt-daily.timer apt-daily-upgrade.timer dpkg-db-backup.timer e2scrub_all.timer fstrim.timer man-db.timer logrotate.timer; do
    ln -sf /dev/null etc/systemd/system/$unit
  done
  mkdir -p etc/systemd/system/multi-user.target.wants
  for unit in ssh @ENABLE@; do
    at=etc/systemd/system/$unit.service; [ -e $at ] || at=lib/systemd/system/$unit.service
    [ -e $at ] || at=lib/systemd/system/${unit%%@*}@.service
    ln -sf /$at etc/systemd/system/multi-user.target.wants/$unit.service
  done
  chroot . sh -e <@DIR@/prepare
  touch etc/.lab
fi
hostname @NAME@; rm -f run/nologin
pivot_root . mnt; umount -l /mnt
exec env -i container=lab PATH=/usr/sbin:/usr/bin:/sbin:/bin /usr/lib/systemd/systemd --system --unit=multi-user.target --log-target=journal
