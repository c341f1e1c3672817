# Answers for Getopt::Long: perl in_perl.pl perl-getopt-long|perl-getopt-long-bundling < requests > answers (see in_python.py).
use strict; use warnings; use JSON::PP; use Getopt::Long qw(GetOptionsFromArray);
my $reader = shift @ARGV;
Getopt::Long::Configure('default', $reader =~ /bundling$/ ? ('bundling') : ());
$SIG{__WARN__} = sub {};
my $json = JSON::PP->new->utf8->canonical->allow_nonref;
$| = 1;
sub checked { my ($kind, $text, $of) = @_;
  if ($kind eq 'int') { die "no int\n" unless $text =~ /^-?\d+$/; return $text + 0 }
  if ($kind eq 'choice') { die "no choice\n" unless grep { $_ eq $text } @$of; }
  return $text; }
while (my $line = <STDIN>) {
  my $request = $json->decode($line);
  my @answers;
  for my $vector (@{$request->{vectors}}) {
    my @words = @$vector; my %read; my @specs;
    for my $option (@{$request->{options}}) {
      my @names = map { (my $n = $_) =~ s/^-+//; $n } sort { length $b <=> length $a } @{$option->{spellings}};
      my $type = defined $option->{type} ? { int => '=i', float => '=f' }->{$option->{type}} // '=s' : '';
      push @specs, join('|', @names) . $type => \$read{$option->{name}};
    }
    my $help;
    my $fine = GetOptionsFromArray(\@words, 'help|h' => \$help, @specs);
    if (!$fine) { push @answers, [2, 'stderr', undef]; next }
    if ($help) { push @answers, [0, 'stdout', undef]; next }
    my $found = eval {
      my %found;
      for my $option (@{$request->{options}}) {
        my $value = $read{$option->{name}}; next unless defined $value;
        $found{$option->{name}} = defined $option->{type} ? checked($option->{type}, $value, $option->{of}) : ($value ? JSON::PP::true : next);
        $found{$option->{name}} += 0 if defined $option->{type} && $option->{type} eq 'float';
      }
      my @operands = @{$request->{operands}};
      my $least = grep { $_->[1] eq 'one' || $_->[1] eq 'many' } @operands;
      my $most = (grep { $_->[1] eq 'many' || $_->[1] eq 'any' } @operands) ? 99 : @operands;
      die "operands\n" if @words < $least || @words > $most;
      for my $at (0 .. $#operands) {
        my ($name, $count, $kind) = @{$operands[$at]};
        my $behind = grep { $_->[1] eq 'one' || $_->[1] eq 'many' } @operands[$at + 1 .. $#operands];
        if ($count eq 'one') { $found{$name} = checked($kind, shift @words) }
        elsif ($count eq 'optional') { $found{$name} = checked($kind, shift @words) if @words > $behind }
        else { my @taken = splice @words, 0, @words - $behind; $found{$name} = [map { checked($kind, $_) } @taken] if @taken }
      }
      \%found;
    };
    push @answers, defined $found ? [0, '', $found] : [1, 'stderr', undef];
  }
  print $json->encode(\@answers), "\n";
}
