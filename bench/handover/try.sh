#!/usr/bin/env bash
# Tries what `rhizon export` writes; see README.md.
set -u
[ $# = 2 ] || { echo "usage: try.sh BASE WHEELS" >&2; exit 2; }
base=$1 wheels=$2 podman=${PODMAN:-podman} here=$(cd "$(dirname "$0")" && pwd)
world=$here/../../src/rhizon/world/harbour
room=$(mktemp -d); export RHIZON_STATE=$room/state RHIZON_CONFIG=$room/config
failed=0 program=/opt/rhizon/bin/rhizon folder=/srv/data/marsh
check() { # WHAT COMMAND...
  local what=$1; shift
  if "$@" >"$room/said" 2>&1; then echo "ok      $what"; else echo "FAILED  $what"; tail -3 "$room/said"; failed=1; fi
}
pod() { "$podman" "$@" 2>>"$room/warnings"; }
ready() { for _ in $(seq 60); do pod exec "$1" $program wait $folder ready --wait 0 && return; sleep 1; done; return 1; }
image_of() { pod inspect --type image --format '{{.Id}}' "$1"; }
common=(--name marsh --catalog "$world/catalog" --accept-licence --wheels "$wheels" --image marsh-try:1)
check "export for compose" rhizon export "$world/tarnholt.list.toml" compose -o "$room/compose" "${common[@]}"
build() { pod build --no-cache --build-arg "BASE=$base" --timestamp 0 -t "$1" "$room/compose"; }
check "build" build marsh-try:1
check "build again" build marsh-try:2
check "both images are the same" test "$(image_of marsh-try:1)" = "$(image_of marsh-try:2)"
run() { pod run -d --name "$1" --read-only --tmpfs /tmp --cap-drop ALL --network none --memory "$2" -v marsh-try:/srv/data marsh-try:1; }
exits() { test "$(pod inspect --format '{{.State.ExitCode}}' "$1")" = "$2"; }
for n in 1 2; do
  check "run $n, without network and root" run "marsh-try-$n" 704m
  check "ready $n" ready "marsh-try-$n"
  check "stop $n" pod stop -t 60 "marsh-try-$n"
  check "ended with 0" exits "marsh-try-$n" 0
done
check "nothing is placed again" sh -c "'$podman' logs marsh-try-2 2>&1 | grep 'files: [0-9]* kept'"
check "too little memory: started" run marsh-try-3 300m
sleep 4
check "too little memory: refused" exits marsh-try-3 1
pod rm -f marsh-try-1 marsh-try-2 marsh-try-3 >/dev/null; pod volume rm -f marsh-try >/dev/null
check "export for Kubernetes" rhizon export "$world/tarnholt.list.toml" kubernetes -o "$room/base" "${common[@]}" --cluster "${CLUSTER:-1.27}"
if command -v kubectl >/dev/null; then
  check "kustomize" sh -c "kubectl kustomize '$room/base' >'$room/all.yaml'"
  [ -z "${KUBECONFIG:-}" ] || check "a cluster accepts it" kubectl apply --dry-run=server -k "$room/base"
fi
"${PYTHON:-python3}" - "$room" <<'PY'
import sys, pathlib, yaml
room = pathlib.Path(sys.argv[1])
read = lambda name: list(yaml.safe_load_all((room / "base" / name).read_text()))
spec = read("server.yaml")[0]["spec"]
claims = [{"apiVersion": "v1", "kind": "PersistentVolumeClaim", **one} for one in spec["volumeClaimTemplates"]]
pod = spec["template"]["spec"] | {"restartPolicy": "OnFailure"}
names = [one["metadata"]["name"] for one in claims]
pod["volumes"] += [{"name": name, "persistentVolumeClaim": {"claimName": name}} for name in names]
whole = {"apiVersion": "v1", "kind": "Pod", "metadata": {"name": "marsh-try", **spec["template"]["metadata"]}, "spec": pod}
(room / "claims.yaml").write_text(yaml.safe_dump_all(claims))
(room / "pod.yaml").write_text(yaml.safe_dump_all([*read("config.yaml"), whole]))
PY
check "volumes" pod kube play "$room/claims.yaml"
check "the pod runs" pod kube play "$room/pod.yaml"
check "the pod is ready" ready marsh-try-server
check "a backup in it" pod exec marsh-try-server $program backup $folder --backups /srv/backups
check "the pod ends" pod kube down "$room/pod.yaml"
pod volume rm -f data backups marsh-lock >/dev/null; pod rmi -f marsh-try:1 marsh-try:2 >/dev/null
rm -rf "$room"
exit $failed
