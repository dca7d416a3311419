# Formatting, the length of lines, and vetting, for all three systems of the client.
look() {
  unformatted=$(git ls-files '*.go' | xargs gofmt -l)
  if [ -n "$unformatted" ]; then
    echo "gofmt would change:" >&2
    echo "$unformatted" >&2
    exit 1
  fi
  if git ls-files '*.go' | LC_ALL=C.UTF-8 xargs grep -nE '^.{141,}$'; then
    echo "these lines have more than 140 characters" >&2
    exit 1
  fi
  go vet ./...
  (cd bench && go vet ./...) # a module of its own
  for system in linux darwin windows; do
    GOOS=$system go vet ./cmd/tarn ./internal/cli ./internal/desk ./internal/startmenu ./internal/signins ./internal/workspace/... ./internal/client ./internal/core/...
    GOOS=$system go build -o /dev/null ./cmd/tarn
  done
}
