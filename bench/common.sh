# Sourced by the benches: builds, makes the working folder (BENCH_DIR, or one in out/bench) and the
# table out/bench/NAME.txt, and knows how to measure. Call begin NAME first.
set -euo pipefail
cd "$(dirname "$(readlink -f "${BASH_SOURCE[0]}")")/.."

begin() { # NAME
  scripts/setup
  scripts/build release juneheath measure | tail -1
  program=$PWD/build/release/juneheath
  measure=$PWD/build/release/measure
  out=$PWD/out/bench
  work=${BENCH_DIR:-$out/work-$1}
  rm -rf "$work"
  mkdir -p "$out" "$work/mnt"
  trap 'umount "$work/mnt" 2>/dev/null || true; rm -rf "$work"' EXIT
  table=$out/$1.txt
  : > "$table"
  say "$(date -u +%F), $(nproc) cores, $(uname -r)"
}

say() { echo "$*" | tee -a "$table"; }
timed() { # COMMAND...: sets s (seconds), r and w (bytes read and written), m (peak KiB)
  "$measure" "$@" 3> "$work/figures" > "$work/said" 2>&1 || { cat "$work/said"; exit 1; }
  # shellcheck disable=SC2034
  read -r s r w m < "$work/figures"
}
ratio() { awk "BEGIN{printf \"%.2f\", $1/$2}"; }
least() { awk "BEGIN{print ($1<$2)?$1:$2}"; }
most() { awk "BEGIN{print ($1>$2)?$1:$2}"; }
mib() { awk "BEGIN{printf \"%.1f\", $1/1024}"; } # KIB

# Everything written is on the disk, and memory that the next command will get is there. In a virtual
# machine the first touch of memory that its host has taken back costs more than a copy, and would
# be charged to whoever comes first: so a part of what is free is touched right before each command.
settle() {
  sync
  sleep 0.3
  local free
  free=$(awk '/^MemFree/{print int($2/1024)}' /proc/meminfo)
  head -c $((free > 12000 ? 5120 : free / 3))M /dev/zero > /dev/shm/juneheath-bench-warm
  rm /dev/shm/juneheath-bench-warm
}
