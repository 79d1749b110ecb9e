#!/usr/bin/env bash
# A real MySQL for the conformance tests, from Debian's unstable release: about two minutes, 800 MB.
# Needs root and debootstrap. Prints the URL to hand to the tests:
#
#     HUMBLE_TEST_MYSQL=$(benchmarks/mysql_server.sh /var/tmp/mysql) \
#         HUMBLE_MYSQL_BIN=/var/tmp/mysql/outside \
#         .venv/bin/python -m pytest tests/engines/test_conformance.py -k mysql
#
# In "outside" its server can be started from this system, too, as a copy of a target is.
set -euo pipefail
root=${1:?the folder to put it in}
if [ ! -x "$root/usr/sbin/mysqld" ]; then
  debootstrap --variant=minbase --include=mysql-server-core,mysql-client-core sid "$root" >&2
fi
mkdir -p "$root/srv/my" "$root/outside"
cat > "$root/outside/mysqld" <<EOF
#!/bin/sh
libraries=$root/lib/x86_64-linux-gnu:$root/usr/lib/x86_64-linux-gnu:$root/usr/lib/mysql/private
exec $root/lib64/ld-linux-x86-64.so.2 --library-path \$libraries $root/usr/sbin/mysqld "\$@" \\
  --lc-messages-dir=$root/usr/share/mysql --character-sets-dir=$root/usr/share/mysql/charsets \\
  --plugin-dir=$root/usr/lib/mysql/plugin
EOF
chmod 755 "$root/outside/mysqld"
serve="mysqld --no-defaults --user=root --datadir=/srv/my/data"
[ -d "$root/srv/my/data" ] || chroot "$root" $serve --initialize-insecure >&2
if [ ! -S "$root/srv/my/s" ]; then
  chroot "$root" $serve --socket=/srv/my/s --secure-file-priv=NULL --skip-networking \
    --mysqlx=OFF --pid-file=/srv/my/pid > "$root/srv/my/log" 2>&1 &
fi
for _ in $(seq 200); do [ -S "$root/srv/my/s" ] && break; sleep 0.1; done
chroot "$root" mysql -uroot -S /srv/my/s -e "CREATE DATABASE IF NOT EXISTS skerry"
echo "mysql://root@localhost/skerry?socket=$root/srv/my/s"
