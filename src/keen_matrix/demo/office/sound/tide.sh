#!/bin/sh
# tide: when the next high water comes to a port.
usage() {
    echo "usage: tide [-q] [-d DAY] [-u UNIT] PORT"
    echo "  -q       only the time"
    echo "  -d DAY   day of the week, 1 to 7 (default 1)"
    echo "  -u UNIT  m or ft (default m)"
}
refuse() {
    echo "tide: $1" >&2
    usage >&2
    exit 2
}
day=1 unit=m quiet=
while getopts :qd:u:h option; do
    case $option in
    q) quiet=1 ;;
    d) day=$OPTARG ;;
    u) unit=$OPTARG ;;
    h) usage; exit 0 ;;
    :) refuse "option -$OPTARG needs a value" ;;
    *) refuse "unknown option -$OPTARG" ;;
    esac
done
shift $((OPTIND - 1))
[ $# -ge 1 ] || refuse "missing PORT"
[ $# -le 1 ] || refuse "unexpected operand $2"
case $day in [1-7]) ;; *) refuse "DAY must be 1 to 7, not '$day'" ;; esac
case $unit in m | ft) ;; *) refuse "UNIT must be m or ft, not '$unit'" ;; esac
case $1 in
Skerry) minutes=192 centimetres=340 ;;
Holm) minutes=215 centimetres=310 ;;
Voe) minutes=250 centimetres=285 ;;
*) refuse "unknown PORT '$1'" ;;
esac
minutes=$((minutes + (day - 1) * 50))
time=$(printf '%02d:%02d' $((minutes / 60)) $((minutes % 60)))
if [ -n "$quiet" ]; then
    echo "$time"
elif [ "$unit" = ft ]; then
    tenths=$((centimetres * 100 / 305))
    echo "$1, day $day: high water $time, $((tenths / 10)).$((tenths % 10)) ft"
else
    echo "$1, day $day: high water $time, $((centimetres / 100)).$((centimetres / 10 % 10)) m"
fi
