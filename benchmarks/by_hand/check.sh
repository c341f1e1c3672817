#!/bin/bash
# The checks of ticket.matrix.toml as a shell loop: bash check.sh PROGRAM
program=$(realpath "$1")
bad=0
check() { # NAME EXIT STDOUT STDERR-PATTERN WORDS…
    local name=$1 code=$2 out=$3 err=$4
    shift 4
    directory=$(mktemp -d)
    (cd "$directory" && python3 "$program" "$@" >.out 2>.err)
    got=$?
    if [ "$got" != "$code" ] || { [ "$out" != "*" ] && [ "$(cat "$directory/.out")" != "$out" ]; } ||
        ! grep -q -- "$err" "$directory/.err" && [ -n "$err" ]; then
        echo "not ok: $name: $*: exit $got, $(cat "$directory/.out")"
        bad=$((bad + 1))
    fi
    rm -r "$directory"
}
check "two ports" 0 4.50 "" Skerry Holm
check "too few" 2 "" usage:
check "too few" 2 "" usage: Skerry
check "too many" 2 "" usage: Skerry Holm Voe
for riders in abc 1.5 "" 0 61; do
    check "no riders" 2 "" --riders Skerry Holm -n "$riders"
done
for option in -n --riders=; do
    for number in 1 2 60; do
        check "both spellings" 0 "$(printf '%.2f' "$(echo "$number * 4.5" | bc)")" "" "$option$number" Skerry Holm
    done
done
for option in -n --riders; do check "the value apart" 0 9.00 "" "$option" 2 Skerry Holm; done
for help in -h --help; do check "help" 0 "*" "" "$help"; done
for option in -s --save; do
    for file in ticket.txt "a ticket.txt"; do
        directory=$(mktemp -d)
        out=$(cd "$directory" && python3 "$program" "$option" "$file" Skerry Voe)
        if [ "$out" != 4.50 ] || [ "$(cat "$directory/$file")" != "Skerry-Voe 4.50" ] || [ "$(ls "$directory" | wc -l)" != 1 ]; then
            echo "not ok: saved: $option $file"
            bad=$((bad + 1))
        fi
        rm -r "$directory"
    done
done
check "not saved" 1 "*" no/such/directory -s no/such/directory Skerry Voe
check "with a vehicle" 0 "*" "" Skerry Holm
check "with a vehicle" 0 "*" "" --bike Skerry Holm
check "with a vehicle" 0 "*" "" --car Skerry Holm
check "not both" 2 "" -- --bike --car Skerry Holm
check "not both" 2 "" -- --car --bike Skerry Holm
check "prices" 0 4.50 "" Skerry Holm
check "prices" 0 7.50 "" Skerry Holm --bike
check "prices" 0 30.00 "" Skerry Holm --bike -n 4
check "prices" 0 25.50 "" Skerry Holm --car
check "prices" 0 39.00 "" Skerry Holm --car -n 4
[ "$bad" = 0 ]
