#!/bin/sh
# The whole job once, on real filesystems: images that are mounted through loop devices stand in for the disks.
# As root, with an empty folder:  sh docs/cli/walk.sh /tmp/walk
# Nothing outside of that folder is touched, and at the end nothing is mounted any more. The tests run it.
set -eu
cd "$1"

disk() { # NAME SIZE: a new disk, mounted at mnt/NAME
    truncate -s "$2" "$1.img"
    mkfs.ext4 -q -m 0 "$1.img"
    mkdir -p "mnt/$1"
    mount -o loop "$1.img" "mnt/$1"
    rmdir "mnt/$1/lost+found"
}
pull() { umount "mnt/$1"; } # NAME: what is left is an empty folder, as on a real machine
trap 'for place in mnt/*; do umount "$place" 2>/dev/null || true; done' EXIT
typed() { echo; echo "\$ zinc-sieve $*"; zinc-sieve "$@"; }
ends_with() { # CODE COMMAND…: what is not well, and says so
    wanted=$1; shift
    code=0; typed "$@" || code=$?
    [ "$code" = "$wanted" ] || { echo "exit code $code, not $wanted"; exit 1; }
}

echo "── 1. Which disk is which, and does it deserve to be used"
for name in alder beech cedar; do disk "$name" 48M; done
disk oak 64M
typed disks || true                         # not every machine lets its disks be asked
typed burn-in mnt/cedar --amount 4MB --yes

echo "── 2. Choose a layout"
typed design --hdd 12TB,12TB,12TB,14TB --want space --quiet

echo "── 3. Build it"
cat > pool.toml <<POOL
[pool]
name = "fernhollow"

[[volume]]
name = "recordings"
kind = "unstriped"
data = ["alder", "beech", "cedar"]
parity = ["oak"]
POOL
for name in alder beech cedar oak; do
    printf '\n[[disk]]\nname = "%s"\npath = "%s"\n' "$name" "$PWD/mnt/$name" >> pool.toml
done
typed check
typed create --yes

echo "── 4. Put files in, and guard them"
mkdir -p card/dawn-chorus card/nest-cams
for number in 1 2 3 4 5 6; do
    head -c 900000 /dev/urandom > "card/dawn-chorus/wren-$number.flac"
    head -c 700000 /dev/urandom > "card/nest-cams/clip-$number.mkv"
done
typed put card/dawn-chorus card/nest-cams / --yes
ends_with 5 status
typed sync --yes
typed status

echo "── 5. What if a disk dies, and is that true"
typed fate --lose cedar
typed fate --any 2 --quiet || true          # two at once cost something, and it says so
typed drill --lose cedar
typed risk --quiet

echo "── 6. It dies: read what is needed, rebuild the rest"
pull cedar
ends_with 1 status --quiet
mkdir out
typed get dawn-chorus out
cmp -s card/dawn-chorus/wren-1.flac out/dawn-chorus/wren-1.flac
disk maple 64M
typed rebuild cedar --onto mnt/maple --yes
typed verify

echo "── 7. The pool changes"
disk elm 64M
typed replace alder --onto mnt/elm --yes
typed vacate beech --yes
typed sync --yes --quiet
typed status --quiet

echo "── 8. Carried elsewhere, and taken apart"
mkdir elsewhere
cd elsewhere
typed adopt ../mnt/elm ../mnt/maple ../mnt/oak --yes --quiet
typed verify --quiet
typed dissolve recordings --yes
cd ..
count=0
for file in card/*/*; do
    for place in mnt/elm mnt/maple; do
        [ ! -e "$place/${file#card/}" ] || { cmp "$file" "$place/${file#card/}"; count=$((count + 1)); }
    done
done
[ "$count" = 12 ]
echo
echo "Every file is there, byte for byte, and nothing of ours."
