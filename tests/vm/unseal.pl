# Asks a TPM 2.0 for what a private root's key is kept in: unseal.pl BYTES PCR...
my ($null, $index) = (0x40000007, 0x01800b05);
open(my $t, '+<', '/dev/tpmrm0') or die "no TPM: $!\n";
sub tpm {
  my ($command, $handles, $authorization, $parameters) = @_;
  my $body = join('', map { pack 'N', $_ } @$handles) . $authorization . $parameters;
  syswrite($t, pack('n N N', $authorization ? 0x8002 : 0x8001, 10 + length $body, $command) . $body) or die "TPM: $!\n";
  sysread($t, my $answer, 4096);
  my (undef, undef, $code) = unpack('n N N', $answer);
  die sprintf("TPM refused %x: %#x\n", $command, $code) if $code;
  return substr($answer, 10);
}
my ($bytes, @pcrs) = @ARGV;
my $bits = "\0\0\0";
vec($bits, $_, 1) = 1 for @pcrs;
my ($session) = unpack('N', tpm(0x176, [$null, $null], '', pack('n/a* n C n n', "n" x 16, 0, 1, 0x10, 0x0b)));
tpm(0x17f, [$session], '', pack('n N n C a3', 0, 1, 0x0b, 3, $bits));
my $by = pack('N n C n', $session, 0, 1, 0);
print unpack('H*', tpm(0x14e, [$index, $index], pack('N/a*', $by), pack('n n', $bytes, 0))), "\n";
