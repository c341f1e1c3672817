# Read by bash before a script (BASH_ENV): every command is told with its file and line, on a
# descriptor of its own.
if [ -n "${KEEN_MATRIX_TRACE-}" ]; then
    exec {BASH_XTRACEFD}>>"$KEEN_MATRIX_TRACE.$$"
    PS4='+	${BASH_SOURCE[0]:-$0}	$LINENO	'
    if [ -n "${KEEN_MATRIX_POSIX-}" ]; then set -o posix; fi
    set -x
fi
