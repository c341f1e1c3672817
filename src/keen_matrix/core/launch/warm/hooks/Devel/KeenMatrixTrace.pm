# Loaded by perl before a program (PERL5OPT): tells each line that runs, and at the end those that can.
package Devel::KeenMatrixTrace;
package DB;
use strict;
our ($to, $count, %seen, %known);
BEGIN {
    $to = undef;
    if ($ENV{KEEN_MATRIX_TRACE}) { open($to, '>>', "$ENV{KEEN_MATRIX_TRACE}.$$") or $to = undef; }
    $count = 0;
}
sub DB {
    return unless $to;
    my (undef, $file, $line) = caller;
    return if ++$count > 20_000 && $seen{"$file\t$line"};
    $seen{"$file\t$line"} = 1;
    syswrite($to, "$file\t$line\n");
}
END {
    if ($to) {
        no strict 'refs';
        for my $name (grep { /^_</ } keys %main::) {
            my ($file, $lines) = (substr($name, 2), *{"main::$name"}{ARRAY});
            next unless $lines;
            for my $line (1 .. $#$lines) {
                no warnings;
                syswrite($to, "!$file\t$line\n") if defined $lines->[$line] && $lines->[$line] != 0;
            }
        }
    }
}
1;
