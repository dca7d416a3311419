#!/bin/sh
# Begins a file from a shell, by the local interface: desk.sh FILE. It takes the lock, brings the newest version, and opens the file in its
# program. No line of it knows more of Kettle Tarn than docs/editor-interface.md says; it takes paths without quotes and backslashes.
set -eu
tarn=${TARN:-tarn}
file=$(realpath "$1")
ask() { printf '{"jsonrpc": "2.0", "id": 1, "method": "%s", "params": %s}\n' "$1" "$2" | "$tarn" editor; }

# The workspaces, a line each: its id, a space, its folder.
ask workspaces '{}' | grep -o '"workspace":"[^"]*","folder":"[^"]*"' | sed 's/"workspace":"\([^"]*\)","folder":"\([^"]*\)"/\1 \2/' |
	while read -r id folder; do
		case $file in
		"$folder"/*)
			answer=$(ask begin "{\"workspace\": \"$id\", \"paths\": [\"${file#"$folder"/}\"], \"open\": ${OPEN:-true}}")
			case $answer in
			*'"error":'*) printf '%s\n' "$answer" | grep -o '"message":"[^"]*"' | tail -n 1 | cut -d '"' -f 4 ;;
			*) echo "${file#"$folder"/} is yours" ;;
			esac
			;;
		esac
	done
