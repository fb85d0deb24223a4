# Mounts the root of a machine: from an image, block by block over NBD or whole from memory; or,
# over IPv6, which initrds know nothing of, its files by NFS.
#
#   daskel.pl root FOLDER            mounts the root that the kernel's arguments name
#   daskel.pl keep INDEX HOST PORT NAME   opens /dev/nbdINDEX, and keeps it open
#
# It runs in the initrds of initramfs-tools and dracut with nothing but the root's own perl, so it
# uses no module, not even strict. What goes wrong is thrown as "REASON: text", where REASON is one
# word that the server knows (core/content/stages.py).

$| = 1;
$SIG{PIPE} = 'IGNORE';
my ($INET, $INET6, $NETLINK, $ALG) = (2, 10, 16, 38);
my ($STREAM, $DGRAM, $RAW, $SEQPACKET) = (1, 2, 3, 5);
my $PLACE = '/run/daskel';
my (%WORD, %CONFIG, $KMSG);
my $OPEN = 0;                                                              # the tunnel is up

sub say_ {
  print STDERR "daskel: @_\n";
  syswrite($KMSG, "<7>daskel: @_\n") if $KMSG;                            # debug: not on the screen again
}

sub failed { my ($reason, $text) = @_; die "$reason: $text\n" }

sub lines { my ($path) = @_; open(my $f, '<', $path) or return (); my @l = <$f>; chomp @l; @l }

sub read_words {
  %CONFIG = map { split /=/, $_, 2 } lines('/daskel/config');
  %WORD = map { /^daskel\.(\w+)=(.*)/ ? ($1, $2) : () } map { split ' ' } lines('/proc/cmdline');
  open($KMSG, '>', '/dev/kmsg');
}

# Seconds since the start, by the kernel's clock: whoever keeps a device open sees no /proc later.
sub uptime {
  my $now = "\0" x 16;
  syscall($CONFIG{clock_gettime}, 1, $now);                                # CLOCK_MONOTONIC
  my ($seconds, $nano) = unpack('q q', $now);
  return $seconds + $nano / 1e9;
}

sub mega { sprintf '%.0f MB', $_[0] / 1e6 }

# --- sockets ---

# The 16 bytes of an IPv6 address, also in brackets.
sub sixteen {
  my ($text) = @_;
  $text =~ tr/[]//d;
  my ($before, $after) = split /::/, $text, 2;
  my @before = split /:/, $before;
  my @after = defined $after ? split /:/, $after : ();
  my @zeros = $text =~ /::/ ? (0) x (8 - @before - @after) : ();
  return pack('n8', map { hex } @before, @zeros, @after);
}

sub family { $_[0] =~ /:/ ? $INET6 : $INET }

sub address {
  my ($host, $port) = @_;
  return pack('S n N a16 N', $INET6, $port, 0, sixteen($host), 0) if family($host) == $INET6;
  return pack('S n C4 x8', $INET, $port, split /\./, $host);
}

# Seconds that one read or write may take; 0: for ever.
sub patience {
  my ($socket, $seconds) = @_;
  my $time = pack('l! l!', int $seconds, ($seconds - int $seconds) * 1e6);
  setsockopt($socket, 1, $_, $time) for 20, 21;                           # SO_RCVTIMEO, SO_SNDTIMEO
}

sub connected {
  my ($host, $port) = @_;
  socket(my $s, family($host), $STREAM, 0) or failed('internal', "socket: $!");
  setsockopt($s, 6, 1, pack('i', 1));                                    # TCP_NODELAY
  setsockopt($s, 1, 9, pack('i', 1));                                    # SO_KEEPALIVE
  setsockopt($s, 6, 4, pack('i', 10));                                   # TCP_KEEPIDLE
  setsockopt($s, 6, 5, pack('i', 5));                                    # TCP_KEEPINTVL
  setsockopt($s, 6, 6, pack('i', 3));                                    # TCP_KEEPCNT
  setsockopt($s, 6, 18, pack('i', 30000));                               # TCP_USER_TIMEOUT
  patience($s, 10);
  connect($s, address($host, $port)) or failed('server', "$host port $port does not answer: $!");
  return $s;
}

sub take {
  my ($s, $count) = @_;
  my $got = '';
  while (length $got < $count) {
    my $n = sysread($s, $got, $count - length $got, length $got);
    failed('server', 'the connection was closed') unless $n;
  }
  return $got;
}

sub give {
  my ($s, $data) = @_;
  my $at = 0;
  while ($at < length $data) {
    my $n = syswrite($s, $data, length($data) - $at, $at);
    failed('server', "it cannot be sent: $!") unless $n;
    $at += $n;
  }
}

# --- HTTP ---

my $HOST = qr{[\d.]+|\[[\da-fA-F:]+\]};

sub url { $_[0] =~ m{^\w+://($HOST):(\d+)/(.*)$} or failed('arguments', "not a URL: $_[0]"); ($1, $2, $3) }

# A request with its answer's head read: socket, status, headers, what came of the body.
sub request {
  my ($host, $port, $method, $path, $headers, $body) = @_;
  my $s = connected($host, $port);
  give($s, "$method /$path HTTP/1.1\r\nHost: $host\r\nConnection: close\r\n$headers\r\n$body");
  my $got = '';
  while ((my $end = index($got, "\r\n\r\n")) < 0) {
    failed('server', 'its answer has no end') if length $got > 65536;
    sysread($s, $got, 65536, length $got) or failed('server', 'the connection was closed');
  }
  my ($head, $rest) = split /\r\n\r\n/, $got, 2;
  my ($status) = $head =~ m{^HTTP/\S+ (\d+)};
  my %headers = map { /^([^:]+): *(.*)/ ? (lc $1, $2) : () } split /\r\n/, $head;
  return ($s, $status, \%headers, $rest);
}

sub report {
  my (%told) = @_;
  my $where = $WORD{private} && !$OPEN ? $WORD{contact} : $WORD{tell};
  return unless $where =~ /^($HOST):(\d+)$/;
  my ($host, $port) = ($1, $2);
  my $body = join '', map { "$_=$told{$_}\n" } sort keys %told;
  my $length = length $body;
  eval { request($host, $port, 'POST', 'daskel/stage', "Content-Length: $length\r\n", $body) };
}

sub available { for (lines('/proc/meminfo')) { return $1 * 1024 if /^MemAvailable: +(\d+)/ } 0 }

sub room_for {
  my ($size) = @_;
  my ($have, $spare) = (available(), 150 << 20);
  my $text = mega($size) . ' for the image and ' . mega($spare) . ' beside it are needed, ' . mega($have) . ' are there';
  failed('memory', $text) if $have < $size + $spare;
}

# The file at a URL, which is gone on with where a connection ends before it.
sub fetch {
  my ($url, $file) = @_;
  my ($host, $port, $path) = url($url);
  my ($at, $size, $next, $quiet) = (0, undef, 10, 0);
  open(my $f, '>', $file) or failed('internal', "$file: $!");
  while (!defined $size || $at < $size) {
    my $before = $at;
    eval {
      my ($s, $status, $headers, $rest) = request($host, $port, 'GET', $path, "Range: bytes=$at-\r\n", '');
      failed('absent', "$url: HTTP $status") unless $status == 206 || ($status == 200 && !$at);
      my $whole = $headers->{'content-range'} =~ m{/(\d+)$} ? $1 : $at + $headers->{'content-length'};
      if (!defined $size) {
        $size = $whole;
        room_for($size);
        say_('fetching ' . mega($size));
        report(stage => 'fetching', bytes => $size);
      }
      failed('digest', "the image was changed while it was fetched") if $whole != $size;
      while (1) {
        give($f, $rest); $at += length $rest;
        while ($at * 100 >= $next * $size && $next < 100) { print STDERR "daskel: $next %\n"; $next += 10 }
        last if $at >= $size;
        sysread($s, $rest, 1 << 20) or failed('server', 'the connection was closed');
      }
      1;
    } or do {
      die $@ unless $@ =~ /^server: /;
      $quiet = $at > $before ? 0 : $quiet + 1;
      die $@ if $quiet > 20;
      select(undef, undef, undef, 0.5);
    };
  }
  close $f;
}

# --- one transmission for many (docs/multicast.md) ---

# The file at a URL as it is sent to many at once; false where it is to be fetched instead.
sub hear {
  my ($url, $file) = @_;
  my ($host, $port, $path) = url($url);
  my ($asked, $status, $headers, $rest) = request($host, $port, 'GET', "daskel/multicast/$path", '', '');
  return 0 unless $status == 200;
  $rest .= take($asked, $headers->{'content-length'} - length $rest);
  my %told = map { split /=/, $_, 2 } split /\n/, $rest;
  my ($size, $block) = ($told{size}, $told{block});
  my $count = int(($size + $block - 1) / $block);
  room_for($size);
  my $s = joined($asked, $told{group}, $told{port});
  open(my $f, '>', $file) or failed('internal', "$file: $!");
  truncate($f, $size) or failed('internal', "$file: $!");
  my %it = (file => $f, socket => $s, size => $size, block => $block, count => $count, left => $count,
            have => "\0" x int(($count + 7) / 8), id => $told{transmission},
            back => address($host, $told{port}), next => 10, sequence => undef,
            why => 'the server cannot be asked');
  say_('listening for ' . mega($size) . " that are sent to all on $told{group}");
  report(stage => 'fetching', bytes => $size);
  my $failures = 0;
  while ($failures < 5) {
    my $before = $it{left};
    my $done = eval { asked_again(\%it, $host, $port, $path) };
    return 1 if $done eq 'whole';
    last if $done eq 'fetch';
    if (!$done) {
      die $@ unless $@ =~ /^server: (.*)/;
      say_("multicast: $1");
      select(undef, undef, undef, 1);
    }
    $failures = $it{left} < $before ? 0 : $failures + 1;
  }
  say_("it comes over HTTP: $it{why}");
  return 0;
}

# Tells what it has, and does what it is told then: `whole`, `listen` or `fetch`.
sub asked_again {
  my ($it, $host, $port, $path) = @_;
  my $have = $it->{left} < $it->{count} ? $it->{have} : '';
  my $length = "Content-Length: " . length($have) . "\r\n";
  my ($s, $status, $headers, $rest) = request($host, $port, 'POST', "daskel/multicast/$path", $length, $have);
  if ($status != 200 && $status != 202) {
    my $alone = $it->{listened} ? 'nothing of what is sent to all was heard' : 'nobody else waits for it';
    $it->{why} = $status == 204 ? $alone : "the server does not send it to all any more (HTTP $status)";
    return 'fetch';
  }
  my $left = $headers->{'content-length'};
  if ($status == 200) {
    say_(sprintf '%.1f %% were missed, and come alone', 100 * $left / $it->{size}) if $left;
    fill($it, $s, $rest, $left);
    return 'whole';
  }
  $rest .= take($s, $left - length $rest);
  $it->{listened} = 1;
  listen_($it, $rest =~ /sequence=(\d+)/);
  return 'listen';
}

# Until a pass is over, or nothing comes any more.
sub listen_ {
  my ($it, $from) = @_;
  my ($s, $block, $begin) = ($it->{socket}, $it->{block}, pack('a4 N', 'DSKL', $it->{id}));
  my ($start, $next, $run, $got, $told) = (-1, -1, '', 0, uptime());
  my $have = \$it->{have};
  patience($s, 1.5);
  while (defined recv($s, my $data, 2048, 0)) {
    next if substr($data, 0, 8) ne $begin;
    my ($number, $sequence) = unpack('x8 N N', $data);
    if ($number == 0xffffffff) { last if $sequence >= $from; next }
    $got++;
    $it->{sequence} = $sequence - 1 unless defined $it->{sequence};
    if (!($got & 63) && uptime() - $told > 0.25) {
      $told = uptime();
      my $passed = $sequence - $it->{sequence};
      send($s, pack('a4 N4', 'DSKR', $it->{id}, $got, $passed > $got ? $passed - $got : 0, $sequence), 0, $it->{back});
      ($it->{sequence}, $got) = ($sequence, 0);
    }
    next if $number >= $it->{count} || vec($$have, $number, 1);
    vec($$have, $number, 1) = 1;
    $it->{left}--;
    if ($number != $next || length $run > 262144) {
      put($it->{file}, $start * $block, $run);
      ($start, $run) = ($number, '');
    }
    $run .= substr($data, 16);
    $next = $number + 1;
    progress($it) unless $it->{left} & 1023;
  }
  put($it->{file}, $start * $block, $run);
}

# What comes alone: all that is missed, in its order.
sub fill {
  my ($it, $s, $data, $left) = @_;
  my ($number, $block) = (0, $it->{block});
  while ($number < $it->{count}) {
    if (vec($it->{have}, $number, 1)) { $number++; next }
    my $behind = $number;
    $behind++ while $behind < $it->{count} && $behind - $number < 512 && !vec($it->{have}, $behind, 1);
    my $end = $behind * $block < $it->{size} ? $behind * $block : $it->{size};
    my $wanted = $end - $number * $block;
    $data .= take($s, $wanted - length $data) if length $data < $wanted;
    put($it->{file}, $number * $block, substr($data, 0, $wanted, ''));
    vec($it->{have}, $_, 1) = 1 for $number .. $behind - 1;
    $it->{left} -= $behind - $number;
    $number = $behind;
    progress($it);
  }
}

sub put {
  my ($f, $at, $data) = @_;
  return unless length $data;
  sysseek($f, $at, 0);
  my $written = syswrite($f, $data);
  failed('internal', "the image cannot be written: $!") unless $written == length $data;
}

sub progress {
  my ($it) = @_;
  my $done = $it->{count} - $it->{left};
  while ($done * 100 >= $it->{next} * $it->{count} && $it->{next} < 100) { print STDERR "daskel: $it->{next} %\n"; $it->{next} += 10 }
}

# A socket that gets what is sent to a group, on the network card of another socket.
sub joined {
  my ($by, $group, $port) = @_;
  socket(my $s, $INET, $DGRAM, 0) or failed('internal', "socket: $!");
  setsockopt($s, 1, 2, pack('i', 1));                                            # SO_REUSEADDR
  setsockopt($s, 1, 33, pack('i', 8 << 20)) or setsockopt($s, 1, 8, pack('i', 8 << 20));   # SO_RCVBUFFORCE
  bind($s, address($group, $port)) or failed('network', "$group port $port: $!");
  my ($own) = unpack('x4 a4', getsockname $by);
  setsockopt($s, 0, 35, pack('C4', split /\./, $group) . $own) or failed('network', "$group: $!");   # IP_ADD_MEMBERSHIP
  return $s;
}

# SHA-256 by the kernel, else by a program of the initrd.
sub digest {
  my ($file) = @_;
  my ($algorithm, $number);
  if (socket($algorithm, $ALG, $SEQPACKET, 0) && bind($algorithm, pack('S a14 L L a64', $ALG, 'hash', 0, 0, 'sha256'))) {
    $number = syscall($CONFIG{accept}, fileno($algorithm), 0, 0);
    if ($number >= 0 && open(my $operation, '+<&=', $number)) {
      open(my $f, '<', $file) or failed('internal', "$file: $!");
      while (1) {
        my $n = sysread($f, my $piece, 1 << 16);
        failed('internal', "$file: $!") unless defined $n;
        defined send($operation, $piece, $n ? 0x8000 : 0) or failed('internal', "sha256: $!");   # MSG_MORE
        last unless $n;
      }
      recv($operation, my $sum, 32, 0);
      return unpack('H*', $sum);
    }
  }
  my ($sum) = split ' ', `sha256sum $file 2>/dev/null`;
  failed('modules', 'the kernel of this root cannot compute SHA-256 (algif_hash)') unless length $sum == 64;
  return $sum;
}

# --- NBD: the handshake is ours, then the kernel has the socket ---

sub handshake {
  my ($host, $port, $name) = @_;
  my $s = connected($host, $port);
  my ($magic, $options) = unpack('Q> Q> n', take($s, 18));
  failed('server', 'it does not speak NBD') unless $magic == 0x4e42444d41474943 && $options == 0x49484156454f5054;
  give($s, pack('N', 3));                                                # fixed newstyle, no zeroes
  my $asked = pack('N', length $name) . $name . pack('n', 0);
  give($s, pack('Q> N N', 0x49484156454f5054, 7, length $asked) . $asked);   # GO
  my ($size, $flags);
  while (1) {
    my (undef, undef, $kind, $length) = unpack('Q> N N N', take($s, 20));
    my $data = $length ? take($s, $length) : '';
    if ($kind == 3) { ($size, $flags) = unpack('x2 Q> n', $data) if unpack('n', $data) == 0 }
    elsif ($kind == 1) { last }
    else { failed('absent', $data || sprintf('refused (%#x)', $kind)) }
  }
  patience($s, 0);
  return ($s, $size, $flags);
}

sub attribute { my ($kind, $data) = @_; my $l = 4 + length $data; pack('S S', $l, $kind) . $data . ("\0" x (-$l & 3)) }
sub u32 { attribute($_[0], pack('L', $_[1])) }
sub u64 { attribute($_[0], pack('Q', $_[1])) }

sub attributes {
  my ($data) = @_;
  my %found;
  while (length $data >= 4) {
    my ($length, $kind) = unpack('S S', $data);
    last if $length < 4;
    $found{$kind & 0x3fff} = substr($data, 4, $length - 4);
    $data = substr($data, ($length + 3) & ~3);
  }
  return %found;
}

sub netlink {
  socket(my $n, $NETLINK, $RAW, 16) or failed('internal', "netlink: $!");        # NETLINK_GENERIC
  bind($n, pack('S S L L', $NETLINK, 0, 0, 0)) or failed('internal', "netlink: $!");
  return $n;
}

my $sequence = 1;

sub generic {
  my ($n, $family, $command, $data) = @_;
  my $body = pack('C C S', $command, 1, 0) . $data;
  send($n, pack('L S S L L', 16 + length $body, $family, 1 | 4, ++$sequence, 0) . $body, 0) or failed('internal', "netlink: $!");
  my $reply = '';
  while (1) {
    defined recv($n, my $in, 65536, 0) or failed('internal', "netlink: $!");
    while (length $in >= 16) {
      my ($length, $kind, undef, $number) = unpack('L S S L', $in);
      my $one = substr($in, 0, $length);
      $in = substr($in, ($length + 3) & ~3);
      next if $number != $sequence;
      if ($kind == 2) {                                                          # NLMSG_ERROR
        my $error = unpack('x16 l', $one);
        $! = -$error;
        failed('internal', "nbd: $!") if $error;
        return $reply;
      }
      $reply = substr($one, 20);
    }
  }
}

sub sockets { attribute(7 | 0x8000, join '', map { attribute(1 | 0x8000, attribute(1, pack('L', fileno $_))) } @_) }

# Opens a block device, and stays: when its connection is lost, it is made anew for as long as it
# takes (NBD_ATTR_DEAD_CONN_TIMEOUT), and programs that read just wait.
sub keep {
  my ($index, $host, $port, $name) = @_;
  my $n = netlink();
  my %family = attributes(generic($n, 16, 3, attribute(2, "nbd\0")));            # CTRL_CMD_GETFAMILY
  my $id = unpack('S', $family{1});
  my %groups = attributes($family{7});
  my $group = 0;
  for (values %groups) { my %one = attributes($_); $group = unpack('L', $one{2}) }
  my ($s, $size, $flags) = handshake($host, $port, $name);
  my $events = netlink();
  setsockopt($events, 270, 1, pack('i', $group));                                # NETLINK_ADD_MEMBERSHIP
  my $device = u32(1, $index) . u64(2, $size) . u64(3, 512) . u64(4, 30) . u64(5, $flags) . u64(6, 0);
  generic($n, $id, 1, $device . u64(8, 1000000000) . sockets($s));               # NBD_CMD_CONNECT
  say_("/dev/nbd$index is $name, " . mega($size));
  exit 0 if fork;
  if (open(my $o, '>', '/proc/self/oom_score_adj')) { print $o "-1000" }
  open(STDIN, '<', '/dev/null'); open(STDOUT, '>', '/dev/null'); open(STDERR, '>', '/dev/null');
  chdir '/';
  syscall($CONFIG{mlockall}, 3);                                                 # what it runs on goes away
  close $s;
  while (1) {
    defined recv($events, my $in, 65536, 0) or next;
    my ($command) = unpack('x16 C', $in);
    my %told = attributes(substr($in, 20));
    again($n, $id, $index, $size, $host, $port, $name) if $command == 4 && unpack('L', $told{1}) == $index;   # NBD_CMD_LINK_DEAD
  }
}

sub again {
  my ($n, $id, $index, $size, $host, $port, $name) = @_;
  my ($since, $wait, $said) = (uptime(), 0.2, '');
  say_("/dev/nbd$index: the connection to $host is lost; it is made anew as soon as it answers");
  while (1) {
    my ($s, $now) = eval { handshake($host, $port, $name) };
    my $why = $@;
    if ($s && $now == $size) {
      if (eval { generic($n, $id, 3, u32(1, $index) . sockets($s)); 1 }) {       # NBD_CMD_RECONFIGURE
        my $lost = sprintf '%.0f', uptime() - $since;
      say_("/dev/nbd$index: connected again after $lost s");
      report(stage => 'reconnected', seconds => $lost);
        return;
      }
      $why = $@;
    }
    $why = "another image is there under its name\n" if $s && $now != $size;
    chomp $why;
    say_("/dev/nbd$index: $why") if $why ne $said && $why !~ /^server/;
    $said = $why;
    close $s if $s;
    select(undef, undef, undef, $wait);
    $wait = $wait * 1.5 > 2 ? 2 : $wait * 1.5;
  }
}

# --- the root ---

sub run {
  my @words = @_;
  my $said = '';
  if (open(my $out, '-|')) { $said = join ' ', <$out>; close $out }
  else { open(STDERR, '>&', STDOUT); exec(@words) or exit 127 }
  $said =~ s/\s+/ /g;
  failed('mount', "@words: $said") if $?;
}

sub load_modules {
  my ($list) = @_;
  my $options = '';
  for my $name (lines("/daskel/modules/$list")) {
    open(my $f, '<', "/daskel/modules/$name.ko") or next;
    syscall($CONFIG{finit_module}, fileno($f), $options, 0);                           # it may be there already
  }
}

# Where nobody has given the network card an address (dracut, and IPv6): the one of the kernel's
# arguments.
sub network {
  my ($own, $prefix) = split m{/}, $WORD{address};
  my $six = family($own) == $INET6;
  return if !$own || -e '/scripts/functions' && !$six;
  my ($mac) = (lines('/proc/cmdline'))[0] =~ /\bBOOTIF=01-([0-9a-f-]+)/i;
  $mac =~ tr/-A-F/:a-f/;
  my $card;
  for (1 .. 300) {
    opendir(my $cards, '/sys/class/net');
    for my $name (readdir $cards) {
      my ($here) = lines("/sys/class/net/$name/address");
      $card = $name if $here eq $mac;
    }
    last if $card;
    select(undef, undef, undef, 0.1);
  }
  failed('network', "no network card has the address $mac: its driver is not in the initrd") unless $card;
  socket(my $s, $INET, $DGRAM, 0) or failed('internal', "socket: $!");
  if ($six) {
    six($card, $s, $own, $prefix);
    say_("$card is $own");
    return;
  }
  my $asked = pack('a16 x24', $card);
  return if ioctl($s, 0x8915, $asked);                                           # SIOCGIFADDR
  my $mask = join '.', unpack('C4', pack('N', (0xffffffff << (32 - $prefix)) & 0xffffffff));
  my $told = sub { pack('a16 S n C4 x16', $card, $INET, 0, split /\./, $_[0]) };
  ioctl($s, 0x8916, $told->($own)) or failed('network', "$card: $!");            # SIOCSIFADDR
  ioctl($s, 0x891c, $told->($mask)) or failed('network', "$card: $!");           # SIOCSIFNETMASK
  ioctl($s, 0x8914, pack('a16 s x22', $card, 0x1043)) or failed('network', "$card: $!");   # SIOCSIFFLAGS
  if ($WORD{router}) {
    my $to = sub { pack('S n C4 x8', $INET, 0, split /\./, $_[0]) };
    my $route = pack('x8') . $to->('0.0.0.0') . $to->($WORD{router}) . $to->('0.0.0.0') . pack('S x62', 3);
    ioctl($s, 0x890b, $route);                                                   # SIOCADDRT
  }
  say_("$card is $own");
}

# The server has just given the address to this machine: nobody else is asked for it.
sub six {
  my ($card, $inet, $own, $prefix) = @_;
  return if grep { /^(\w{32}) / && pack('H32', $1) eq sixteen($own) } lines('/proc/net/if_inet6');   # since the last try
  if (open(my $f, '>', "/proc/sys/net/ipv6/conf/$card/accept_dad")) { print $f "0\n"; close $f }
  ioctl($inet, 0x8914, pack('a16 s x22', $card, 0x1043)) or failed('network', "$card: $!");          # SIOCSIFFLAGS
  my ($index) = lines("/sys/class/net/$card/ifindex");
  socket(my $s, $INET6, $DGRAM, 0) or failed('network', "no IPv6: $!");
  my $told = pack('a16 I i', sixteen($own), $prefix, $index);
  ioctl($s, 0x8916, $told) or failed('network', "$card: $!");                                        # SIOCSIFADDR
}

# The files of a root by NFS version 3.
sub files {
  my ($url, $target) = @_;
  my ($host, $port, $path) = url($url);
  close connected($host, $port);                                                 # says why, where it does not answer
  (my $bare = $host) =~ tr/[]//d;
  my $six = family($host) == $INET6 ? '6' : '';
  my $options = "vers=3,proto=tcp$six,mountproto=tcp$six,nolock,port=$port,mountport=$port,addr=$bare,mountaddr=$bare\0";
  my ($from, $type) = ("$host:/$path\0", "nfs\0");
  my $to = "$target\0";
  my $readonly = $WORD{slate} eq 'none' ? 1 : 0;
  my $done = syscall($CONFIG{mount}, $from, $to, $type, $readonly, $options);
  failed('mount', "$host does not let this machine mount /$path: $!") if $done;
}

# --- the tunnel (WireGuard) that private roots come through ---

my $GUID = '5d2c9a64-7c1f-4a3e-9b58-6461736b656c';
my $VARIABLES = '/sys/firmware/efi/efivars';
my $VARIABLE = "$VARIABLES/DaskelKey-$GUID";
my ($LABEL, $FILE) = ('DASKEL', 'KEY');
my $NO_KEY = "\0" x 32;

sub nested { attribute($_[0] | 0x8000, $_[1]) }

# A request to the kernel, and the messages that it answers with.
sub kernel {
  my ($protocol, $type, $flags, $body) = @_;
  socket(my $n, $NETLINK, $RAW, $protocol) or failed('internal', "netlink: $!");
  bind($n, pack('S S L L', $NETLINK, 0, 0, 0)) or failed('internal', "netlink: $!");
  send($n, pack('L S S L L', 16 + length $body, $type, 1 | $flags, ++$sequence, 0) . $body, 0) or failed('internal', "netlink: $!");
  my @found;
  while (1) {
    defined recv($n, my $in, 1 << 18, 0) or failed('internal', "netlink: $!");
    while (length $in >= 16) {
      my ($length, $kind, undef, $number) = unpack('L S S L', $in);
      my $one = substr($in, 16, $length - 16);
      $in = substr($in, ($length + 3) & ~3);
      next if $number != $sequence;
      if ($kind == 2) {                                                          # NLMSG_ERROR
        my $error = unpack('l', $one);
        $! = -$error;
        die "$!\n" if $error;
        return @found;
      }
      return @found if $kind == 3;                                               # NLMSG_DONE
      push @found, $one;
    }
  }
}

sub wireguard {
  my ($command, $flags, $data) = @_;
  my %family = attributes(substr((kernel(16, 16, 4, pack('C C S', 3, 1, 0) . attribute(2, "wireguard\0")))[0], 4));
  return map { substr($_, 4) } kernel(16, unpack('S', $family{1}), $flags, pack('C C S', $command, 1, 0) . $data);
}

sub index_of { my ($name) = @_; my ($index) = lines("/sys/class/net/$name/ifindex"); return $index }

sub device_made {
  my ($name) = @_;
  device_gone($name);
  my $kind = attribute(3, "$name\0") . attribute(4, pack('L', 1420)) . nested(18, attribute(1, "wireguard\0"));
  eval { kernel(0, 16, 0x604, pack('C x S l L L', 0, 0, 0, 0, 0) . $kind); 1 }    # RTM_NEWLINK
    or failed('modules', 'the kernel of this root has no WireGuard: ' . $@);
}

sub device_gone {
  my ($name) = @_;
  my $index = index_of($name) or return;
  kernel(0, 17, 4, pack('C x S l L L', 0, 0, $index, 0, 0));                     # RTM_DELLINK
}

# The public key that belongs to a private one, as the kernel says.
sub public_of {
  my ($key) = @_;
  device_made('daskel-key');
  wireguard(1, 4, attribute(2, "daskel-key\0") . attribute(3, $key));
  my %device = attributes((wireguard(0, 0x304, attribute(2, "daskel-key\0")))[0]);
  device_gone('daskel-key');
  return $device{4};
}

sub base64 { my $u = substr(pack('u', $_[0]), 1); chomp $u; $u =~ tr{`!-_}{AB-Za-z0-9+/}; substr($u, 0, 43) . '=' }

sub raw { my $u = substr($_[0], 0, 43) . 'A'; $u =~ tr{A-Za-z0-9+/}{`!-_}; substr(unpack('u', '@' . $u . "\n"), 0, 32) }

sub sum_of {
  my ($data) = @_;
  my $file = "$PLACE/sum";
  open(my $f, '>', $file) or failed('internal', "$file: $!");
  print $f $data;
  close $f;
  my $sum = digest($file);
  unlink $file;
  return $sum;
}

# Six letters that belong to the keys of both ends, and to this contact alone (core/boot/contact.py).
sub word_of {
  my $bits = unpack('B30', pack('H*', sum_of(join '', @_)));
  my @letters = split //, 'ABCDEFGHJKLMNPQRSTUVWXYZ23456789';
  return join '', map { $letters[oct '0b' . substr($bits, 5 * $_, 5)] } 0 .. 5;
}

# Asks the server outside of the tunnel; what it answers, a name and a value in each line.
sub ask {
  my ($path, %told) = @_;
  $WORD{contact} =~ /^($HOST):(\d+)$/ or failed('arguments', 'no daskel.contact=');
  return ask_at($1, $2, $path, %told);
}

sub ask_at {
  my ($host, $port, $path, %told) = @_;
  my $body = join '', map { "$_=$told{$_}\n" } sort keys %told;
  my ($s, $status, $headers, $got) = request($host, $port, 'POST', "daskel/private/$path", 'Content-Length: ' . length($body) . "\r\n", $body);
  $got .= take($s, $headers->{'content-length'} - length $got);
  (my $said = $got) =~ s/\s+/ /g;
  failed('key', "the server refuses this machine's key: $said") if $status != 200;
  return map { /^(\w+)=(.*)/ ? ($1, $2) : () } split /\n/, $got;
}

# --- where the key is: its private part and the server's public one, 32 bytes each ---

# Also the server's next one: zeros until it has told that. The folder stays closed to users: the
# system that is started finds it mounted.
sub variables {
  opendir(my $there, $VARIABLES) or return 0;
  my $mounted = grep { !/^\./ } readdir $there;
  system("mount -t efivarfs efivarfs $VARIABLES 2>/dev/null") unless $mounted;
  chmod 0700, $VARIABLES;
  return 1;
}

sub parts { map { substr($_[0], $_, 32) } 0, 32, 64 }

sub in_variable {
  return unless variables() && open(my $f, '<', $VARIABLE);
  my $count = sysread($f, my $data, 4096);
  my $text = 'the UEFI variable with this machine\'s key';
  failed('key', "$text has $count bytes, not 100: it is damaged; remove it (chattr -i, rm $VARIABLE)") if $count != 100 && $count != 68;
  return parts(substr($data, 4) . $NO_KEY);                                      # 68: without the next one
}

sub to_variable {
  my ($data) = @_;
  variables() or failed('key', 'this machine has no UEFI variables: no UEFI firmware, or its kernel does not show them');
  if (open(my $f, '<', $VARIABLE)) {
    my $flags = pack('q', 0);
    ioctl($f, 0x80086601, $flags);                                               # FS_IOC_GETFLAGS
    $flags = pack('q', unpack('q', $flags) & ~0x10);
    ioctl($f, 0x40086602, $flags);                                               # FS_IOC_SETFLAGS: not immutable
  }
  open(my $f, '>', $VARIABLE) or failed('key', "the UEFI variable cannot be written: $!");
  defined syswrite($f, pack('L', 7) . $data) or failed('key', "the UEFI variable cannot be written: $!");
  close $f or failed('key', "the UEFI variable cannot be written: $!");
}

sub at { my ($f, $at, $count) = @_; sysseek($f, $at, 0); my $data = ''; sysread($f, $data, $count); return $data }

# The file on a small medium (FAT), read and written in its place without a driver for that: the
# device, and where it begins.
sub medium {
  opendir(my $devices, '/sys/class/block') or return;
  for my $name (sort grep { !/^(\.|loop|ram|nbd)/ } readdir $devices) {
    open(my $f, '<', "/dev/$name") or next;
    my $head = at($f, 0, 512);
    next if length $head < 512 || substr($head, 510, 2) ne "\x55\xaa";
    my ($bytes, $sectors, $reserved, $fats, $roots, $size) = unpack('x11 S C S C S x3 S', $head);
    my $wide = substr($head, 82, 5) eq 'FAT32';
    next unless $wide || substr($head, 54, 3) eq 'FAT';
    my ($label) = unpack('A11', substr($head, $wide ? 71 : 43, 11));
    next if $label ne $LABEL;
    my ($wide_size, $first) = unpack('x36 L x4 L', $head);
    failed('key', "/dev/$name has the label $LABEL, and a damaged file system") if $bytes < 512 || $bytes > 4096 || !$sectors || !$fats;
    my $root = ($reserved + $fats * ($wide ? $wide_size : $size)) * $bytes;
    my $data = $root + $roots * 32;
    $root = $data + ($first - 2) * $sectors * $bytes if $wide;
    my $folder = at($f, $root, $wide ? $sectors * $bytes : $roots * 32);
    while (length $folder >= 32) {
      my $entry = substr($folder, 0, 32, '');
      last if substr($entry, 0, 1) eq "\0";
      next if ord(substr $entry, 11, 1) & 0x18;                                  # a label, a folder
      my ($base, $ending) = unpack('A8 A3', $entry);
      next if $base ne $FILE || $ending ne '';
      my ($high, $low, $length) = unpack('x20 S x4 S L', $entry);
      my $cluster = $wide ? $high << 16 | $low : $low;
      failed('key', "the file $FILE on /dev/$name is empty: it needs 135 bytes") if $length < 135 || $cluster < 2;
      return ("/dev/$name", $data + ($cluster - 2) * $sectors * $bytes);
    }
    failed('key', "/dev/$name has the label $LABEL, and no file $FILE");
  }
  return;
}

sub in_medium {
  my ($device, $at) = medium();
  return unless $device;
  open(my $f, '<', $device) or failed('key', "$device: $!");
  my $text = at($f, $at, 135);
  return unless $text =~ m{^((?:[A-Za-z0-9+/]{43}=\n){2,3})};
  return parts(join('', map { raw($_) } split /\n/, $1) . $NO_KEY);
}

sub to_medium {
  my ($data) = @_;
  my ($device, $at) = medium();
  $device or failed('key', "no medium has the label $LABEL: daskel keys medium makes one");
  open(my $f, '+<', $device) or failed('key', "$device cannot be written: $!");
  my $block = at($f, $at, 512);
  my $text = join '', map { base64($_) . "\n" } parts($data);
  substr($block, 0, length $text) = $text;
  sysseek($f, $at, 0);
  syswrite($f, $block) == length $block or failed('key', "$device cannot be written: $!");
  system('sync');
}

# A TPM 2.0 gives it only to what was started as when it was kept: the same image (PCR 4), or any
# that the same authority signed where Secure Boot is on (PCR 7); and to nobody once PCR 15 is
# extended. TPM 2.0 Library, parts 2 and 3.
my ($OWNER, $NULL, $PASSWORD, $PLACE_IN_TPM) = (0x40000001, 0x40000007, 0x40000009, 0x01800b05);
my $END = 15;
my $TPM;

# What began with one image, kernel and arguments in it: else no PCR is worth anything.
sub tpm_there {
  return 1 if $TPM;
  return 0 unless variables() && -e "$VARIABLES/StubInfo-4a67b082-0a4c-41cf-b6c7-440b29bb8c4f";
  load_modules('tpm');
  for (1 .. 20) {
    return 1 if open($TPM, '+<', '/dev/tpmrm0');
    last unless -d '/sys/class/tpm/tpm0';
    select(undef, undef, undef, 0.1);
  }
  $TPM = undef;
  return 0;
}

sub counted { pack('n/a*', $_[0]) }

sub by_session { my $data = pack('N n C n', $_[0], 0, 1, 0); pack('N/a*', $data) }

# A command with its handles, authorization and parameters; its answer, or undef where the code is one that may be.
sub tpm {
  my ($command, $handles, $authorization, $parameters, $may) = @_;
  my $body = join('', map { pack 'N', $_ } @$handles) . $authorization . $parameters;
  syswrite($TPM, pack('n N N', $authorization ? 0x8002 : 0x8001, 10 + length $body, $command) . $body) or failed('key', "the TPM: $!");
  my $count = sysread($TPM, my $answer, 4096);
  failed('key', 'the TPM does not answer') unless $count >= 10;
  my ($tag, $length, $code) = unpack('n N N', $answer);
  return substr($answer, 10) if !$code;
  return undef if $may && $code == $may;
  my $locked = $code == 0x921 ? ', since it is locked: clear it in the setup of the firmware' : '';
  my $owned = ($code & 0xbf) == 0xa2 || ($code & 0xbf) == 0x8e ? ', since its owner has a password' : '';
  failed('key', sprintf 'the TPM refuses it (%#x)%s%s', $code, $locked, $owned);
}

sub pcrs { my $bits = "\0\0\0"; vec($bits, $_, 1) = 1 for @_; pack('N n C a3', 1, 0x0b, 3, $bits) }

sub secured { open(my $f, '<', "$VARIABLES/SecureBoot-8be4df61-93ca-11d2-aa0d-00e098032b8c") or return 0; sysread($f, my $data, 5); ord(substr $data, 4) == 1 }

# A session that holds while what was started is the same; 3: to know what that is, 1: to use it.
sub session {
  my ($type) = @_;
  my $began = tpm(0x176, [$NULL, $NULL], '', counted("\0" x 16) . counted('') . pack('C n n', $type, 0x10, 0x0b));
  my ($handle) = unpack('N', $began);
  tpm(0x17f, [$handle], '', counted('') . pcrs(secured() ? 7 : 4, $END));         # PolicyPCR
  return $handle;
}

sub session_over { tpm(0x165, [$_[0]], '', '') }

sub in_tpm {
  return unless tpm_there() && defined tpm(0x169, [$PLACE_IN_TPM], '', '', 0x18b);  # NV_ReadPublic
  my $handle = session(1);
  my $data = tpm(0x14e, [$PLACE_IN_TPM, $PLACE_IN_TPM], by_session($handle), pack('n n', 96, 0), 0x99d);   # NV_Read
  if (!defined $data) {
    session_over($handle);
    say_('the TPM keeps its key back: ' . (secured() ? 'another authority signed what was started here' : 'another image was started here') . ' than when it was kept');
    return;
  }
  return parts(unpack 'x4 n/a*', $data);
}

sub to_tpm {
  my ($data) = @_;
  tpm_there() or failed('key', 'this machine has no TPM 2.0, or did not begin with an image of its own');
  my $handle = session(3);
  my $policy = unpack('n/a*', tpm(0x189, [$handle], '', ''));                    # PolicyGetDigest
  session_over($handle);
  my $by_owner = by_session($PASSWORD);
  tpm(0x122, [$OWNER, $PLACE_IN_TPM], $by_owner, '', 0x28b);                     # NV_UndefineSpace
  my $space = pack('N n N n/a* n', $PLACE_IN_TPM, 0x0b, 1 << 1 | 1 << 19 | 1 << 25, $policy, 96);   # written by the owner, read by the policy
  tpm(0x12a, [$OWNER], $by_owner, counted('') . counted($space));                # NV_DefineSpace
  tpm(0x137, [$OWNER, $PLACE_IN_TPM], $by_owner, counted($data) . pack('n', 0)); # NV_Write
}

# From here on nobody gets it, until the machine is started again.
sub tpm_shut {
  return unless $TPM;
  tpm(0x182, [$END], by_session($PASSWORD), pack('N n a32', 1, 0x0b, 'daskel: the root is there'));   # PCR_Extend
  close $TPM;
  $TPM = undef;
}

# Nothing is kept: the key follows from what somebody types (crypt(5), yescrypt with 128 MB).
sub typed {
  my ($asked) = @_;
  my $state = "\0" x 64;
  my $quiet = ioctl(STDIN, 0x5401, $state) ? $state : '';                        # TCGETS
  substr($quiet, 12, 4) = pack('L', unpack('L', substr $quiet, 12, 4) & ~8) if $quiet;   # ECHO
  ioctl(STDIN, 0x5402, $quiet) if $quiet;                                        # TCSETS
  print STDERR "daskel: $asked: ";
  my $line = <STDIN>;
  print STDERR "\n";
  ioctl(STDIN, 0x5402, $state) if $quiet;
  failed('key', 'nobody typed a passphrase') unless defined $line;
  chomp $line;
  return $line;
}

sub by_passphrase {
  my ($text) = @_;
  my ($mac) = (lines('/proc/cmdline'))[0] =~ /\bBOOTIF=01-([0-9a-f-]+)/i;
  $mac =~ tr/-//d;
  my $made = crypt($text, '$y$jCT$' . lc $mac);
  failed('key', 'the perl of this root has no yescrypt, which a passphrase needs') unless $made =~ /^\$y\$jCT\$/;
  return pack('H*', sum_of($made));
}

# A key that is admitted, after some tries; else one that is typed twice.
sub key_typed {
  for (1 .. 3) {
    my $key = by_passphrase(typed("this machine's passphrase"));
    my %told = ask('known', key => base64(public_of($key)));
    if ($told{state} eq 'admitted') {
      my $fits = $told{seal} eq seal($key, raw($told{server}));
      failed('key', 'the server has another key than the one that this machine was admitted by; somebody else may answer in its place') unless $fits;
      return ($key, raw($told{server}));
    }
    return $key if $told{state} eq 'waiting';
    return $key if $told{place} ne 'passphrase' && by_passphrase(typed('a new one, so the same again')) eq $key;
    say_('this is not its passphrase');
  }
  failed('key', 'this is not its passphrase, or its key was revoked');
}

# What shows that a server is the one that the key was admitted by.
sub seal { sum_of('daskel' . join '', @_) }

my %FROM = (tpm => \&in_tpm, variable => \&in_variable, medium => \&in_medium);
my %TO = (tpm => \&to_tpm, variable => \&to_variable, medium => \&to_medium, passphrase => sub { });

# A key and the server's that it was admitted by, and their place; nothing where there is none yet.
sub key_kept {
  my @places = split /,/, $WORD{key};
  load_modules('media') if grep { $_ eq 'medium' } @places;
  for my $try (1 .. 20) {                                                        # a medium may take its time
    for my $place (grep { $try == 1 || $_ eq 'medium' } @places) {
      my ($key, $server, $next) = $FROM{$place} ? $FROM{$place}->() : ();
      return ($key, $server, $next, $place) if $key;
    }
    last if !grep { $_ eq 'medium' } @places || medium();
    select(undef, undef, undef, 0.25);
  }
  return;
}

# Where a new key can be kept.
sub place_for_key {
  for my $place (split /,/, $WORD{key}) {
    return $place if $place eq 'tpm' && tpm_there();
    return $place if $place eq 'variable' && variables();
    return $place if $place eq 'medium' && medium();
    return $place if $place eq 'passphrase';
  }
  failed('key', "there is no place for this machine's key ($WORD{key}): daskel keys medium makes one on a small medium");
}

# The server is told the key, and both ends show a word: a commitment comes before the key, so that
# nobody between them can look for keys that have the same word.
sub contact {
  my ($public, $place, $keeps, $key) = @_;
  my %told = ask('contact', commitment => sum_of($public), place => $place);
  my $server = raw($told{server});
  $keeps->($server);
  ask('key', id => $told{id}, key => base64($public), $place eq 'passphrase' ? (seal => seal($key, $server)) : ());
  my $word = word_of($public, $server, $told{nonce});
  say_("this machine's key is not admitted yet. Its word:  $word");
  say_("it goes on by itself once it is admitted: daskel lobby list");
  return $server;
}

sub answers {
  my ($host, $seconds) = @_;
  my ($port) = $WORD{tell} =~ /:(\d+)$/;
  my $until = uptime() + $seconds;
  while (uptime() < $until) {
    socket(my $s, family($host), $STREAM, 0) or failed('internal', "socket: $!");
    patience($s, 3);
    return 1 if connect($s, address($host, $port));
    select(undef, undef, undef, 0.3);
  }
  return 0;
}

# Whether a server with this key is to be followed: at first contact, or where the one before has said so.
sub follows {
  my ($server, $next, $theirs) = @_;
  return length $theirs == 32 && $theirs ne $NO_KEY && (!$server || $next eq $theirs);
}

sub tunnel {
  return tpm_shut() if $OPEN || !$WORD{private};
  my ($outside, $port, $own, $inner) = split /,/, $WORD{private};
  my $began = uptime();
  my ($key, $server, $next, $place) = key_kept();
  if (!$key) {
    $place = place_for_key();
    ($key, $next) = ("\0" x 32, $NO_KEY);
    if ($place eq 'passphrase') { ($key, $server) = key_typed() }
    else { syscall($CONFIG{getrandom}, $key, 32, 0) == 32 or failed('internal', "no random numbers: $!") }
  }
  my $public = public_of($key);
  my $keeps = sub {
    my ($theirs) = @_;
    return if $server eq $theirs;
    failed('key', "the server has another key than the one that this machine was admitted by; somebody else may answer in its place") unless follows($server, $next, $theirs);
    $TO{$place}->($key . $theirs . $NO_KEY);
    ($server, $next) = ($theirs, $NO_KEY);
  };
  my %told = eval { ask('known', key => base64($public)) };
  if (%told) {
    $keeps->(raw($told{server})) if $server || $told{state} eq 'admitted';
    contact($public, $place, $keeps, $key) if $told{state} eq 'unknown';
  }
  elsif (!$server) { die $@ }
  device_made('daskel0');
  my $allowed = nested(0, attribute(1, pack('S', $INET6)) . attribute(2, sixteen($inner)) . attribute(3, pack('C', 128)));
  my $peer = attribute(1, $server) . attribute(3, pack('L', 2)) . attribute(4, address($outside, $port)) . attribute(5, pack('S', 25)) . nested(9, $allowed);
  wireguard(1, 4, attribute(2, "daskel0\0") . attribute(3, $key) . attribute(6, pack('S', $port)) . nested(8, nested(0, $peer)));
  socket(my $s, $INET, $DGRAM, 0) or failed('internal', "socket: $!");
  six('daskel0', $s, $own, 64);
  my $waits = $told{state} ne 'admitted';
  while (!answers($inner, 20)) {
    %told = eval { ask('known', key => base64($public)) };
    contact($public, $place, $keeps, $key) if $told{state} eq 'unknown';
    next if $told{state} eq 'unknown' || $told{state} eq 'waiting';
    $waits-- or failed('tunnel', "the server knows this machine's key, and does not answer through the tunnel (UDP port $port)") if %told;
    failed('tunnel', "the server $outside does not answer") if !%told;
  }
  $OPEN = 1;
  eval { renewed(sub { $TO{$place}->($key . $server . $_[0]) }, $public, $next, $inner); 1 } or say_("the server's next key could not be kept: $@");
  tpm_shut();
  say_(sprintf "the tunnel is up, after %.1f s; key: $place", uptime() - $began);
  report(stage => 'tunnel', seconds => sprintf('%.1f', uptime() - $began), text => $place);
}

# The server's next key, which came through the tunnel from the one that it has now.
sub renewed {
  my ($keeps, $public, $next, $inner) = @_;
  my ($port) = $WORD{tell} =~ /:(\d+)$/;
  my %told = ask_at("[$inner]", $port, 'known', key => base64($public), next => base64($next));
  my $new = $told{next} ? raw($told{next}) : $NO_KEY;
  return if $new eq $next;
  $keeps->($new);
  ask_at("[$inner]", $port, 'known', key => base64($public), next => base64($new));
}

sub folder { my ($path) = @_; mkdir $path; return $path }

sub blocks {
  my ($url) = @_;
  my ($host, $port, $name) = url($url);
  device(0, $host, $port, $name);
  device(1, $host, $port, $WORD{keep}) if $WORD{keep};
  return '/dev/nbd0';
}

# The name that begins with @ keeps it alive when the system ends all others (systemd).
sub device {
  my ($index, @where) = @_;
  return if -e "/sys/block/nbd$index/pid";                                       # since the last try
  my $loader = $CONFIG{loader};
  my @words = ('@daskel-keep', $loader ? ('--library-path', '/daskel/lib', '/daskel/bin/perl') : ());
  my $child = fork;
  if (!$child) { exec { $loader || '/daskel/bin/perl' } @words, '/daskel/daskel.pl', 'keep', $index, @where; exit 1 }
  waitpid($child, 0);
  return unless $?;
  my ($why) = lines("$PLACE/why");
  failed($why =~ /^(\w+): (.*)/ ? ($1, $2) : ('internal', 'the block device was not opened'));
}

sub memory {
  my ($url) = @_;
  my $place = folder("$PLACE/image");
  run('mount', '-t', 'tmpfs', '-o', 'size=90%,mode=0700', 'image', $place);
  my $began = uptime();
  eval {
    fetch($url, "$place/root") unless $WORD{multicast} && hear($url, "$place/root");
    if ($WORD{digest}) {
      my $sum = digest("$place/root");
      failed('digest', "the image has the digest $sum, not $WORD{digest}") if $sum ne $WORD{digest};
    }
    1;
  } or do { my $why = $@; system('umount', $place); die $why };
  say_(sprintf 'fetched in %.1f s', uptime() - $began);
  open(my $control, '+<', '/dev/loop-control') or failed('modules', "no loop devices: $!");
  my $number = ioctl($control, 0x4c82, 0);                                       # LOOP_CTL_GET_FREE
  failed('internal', "no free loop device: $!") unless defined $number;
  $number += 0;
  open(my $loop, '<', "/dev/loop$number") or failed('internal', "loop: $!");
  open(my $file, '<', "$place/root") or failed('internal', "$!");
  ioctl($loop, 0x4c00, fileno $file) or failed('internal', "loop: $!");          # LOOP_SET_FD
  return "/dev/loop$number";
}

# The files that the server makes for this machine alone, in a folder that lies over the image.
sub own_files {
  my ($root) = $WORD{root} =~ m{^nbd://[^/]+/(.+)@\d+$|/published/(.+)/\d+/[^/]+$} ? $1 // $2 : '';
  return unless $WORD{tell} =~ /^($HOST):(\d+)$/;
  my ($s, $status, $headers, $got) = request($1, $2, 'GET', "daskel/own/$root", '', '');
  return unless $status == 200;
  $got .= take($s, $headers->{'content-length'} - length $got);
  my $place = folder("$PLACE/own");
  while ($got =~ s/^(\d+) (.*)\n//) {
    my ($length, $path) = ($1, $2);
    my $data = substr($got, 0, $length, '');
    next if $path =~ m{(^|/)\.\.(/|$)};
    my @parts = split m{/}, $path;
    my $name = pop @parts;
    my $below = '';
    for my $part (@parts) {
      $below .= "/$part";
      next if -d "$place$below";
      mkdir "$place$below";
      my @as = stat "$PLACE/lower$below";
      next unless @as;
      chown $as[4], $as[5], "$place$below";
      chmod $as[2] & 07777, "$place$below";
    }
    open(my $f, '>', "$place$below/$name") or next;
    print $f $data;
    close $f;
    chmod 0644, "$place$below/$name";
  }
  return $place;
}

# What only this machine's root is to read, in memory: in the running system, too.
sub secret_files {
  return unless $WORD{private} && $WORD{tell} =~ /^($HOST):(\d+)$/;
  my ($s, $status, $headers, $got) = request($1, $2, 'GET', 'daskel/secrets', '', '');
  failed('server', "its secret files do not come: HTTP $status") if $status != 200;
  $got .= take($s, $headers->{'content-length'} - length $got);
  umask 077;
  my $place = folder("$PLACE/secrets");
  while ($got =~ s/^(\d+) ([\w.\@+\/-]+)\n//) {
    my ($length, $path) = ($1, $2);
    my $data = substr($got, 0, $length, '');
    next if $path =~ m{(^|/)\.};
    my @parts = split m{/}, $path;
    my ($name, $at) = (pop @parts, $place);
    $at = folder("$at/$_") for @parts;
    open(my $f, '>', "$at/$name") or failed('internal', "$at/$name: $!");
    print $f $data;
    close $f;
  }
  umask 022;
}

sub root {
  my ($target) = @_;
  my $url = $WORD{root} or failed('arguments', 'no daskel.root= in the kernel\'s arguments');
  umask 022;
  folder($_) for $PLACE, "$PLACE/lower", "$PLACE/upper";
  load_modules('order');
  network();
  tunnel();
  secret_files();
  say_("the root is $url");
  return files($url, $target) if $url =~ /^nfs:/;
  my $device = $url =~ /^nbd:/ ? blocks($url) : memory($url);
  if ($WORD{slate} eq 'none') {
    run('mount', '-t', 'squashfs', '-o', 'ro', $device, $target);
    return;
  }
  run('mount', '-t', 'squashfs', '-o', 'ro', $device, "$PLACE/lower");
  if ($WORD{keep}) { run('mount', '-t', 'ext4', '-o', 'noatime', '/dev/nbd1', "$PLACE/upper") }
  else {
    my $size = $WORD{size} || '50%';
    run('mount', '-t', 'tmpfs', '-o', "mode=0755,size=$size", 'upper', "$PLACE/upper");
  }
  if (!-d "$PLACE/upper/data") {
    my @top = stat "$PLACE/lower";
    folder("$PLACE/upper/data");
    chmod $top[2] & 07777, "$PLACE/upper/data";
    chown $top[4], $top[5], "$PLACE/upper/data";
  }
  folder("$PLACE/upper/work");
  my $own = own_files();
  my $lower = ($own ? "$own:" : '') . "$PLACE/lower";
  my $layers = "lowerdir=$lower,upperdir=$PLACE/upper/data,workdir=$PLACE/upper/work";
  run('mount', '-t', 'overlay', '-o', $layers, 'overlay', $target);
}

# A person at the screen may look around; else it tries again.
my $pause = 10;

sub wait_a_while {
  my $seconds = $pause;
  $pause = $pause * 2 > 300 ? 300 : $pause * 2;                                  # a room of them is not to load the server
  say_("it tries again in $seconds s" . ($WORD{private} ? ', or when Enter is pressed' : '; press Enter for a shell'));
  my $in = '';
  vec($in, fileno(STDIN), 1) = 1;
  return unless select($in, undef, undef, $seconds) > 0 && sysread(STDIN, my $line, 100);
  return if $WORD{private};                                                      # whoever is at it gets no key
  say_('exit goes on');
  system('/bin/sh', '-i');
}

sub undo {
  system("umount $PLACE/$_ 2>/dev/null") for 'lower', 'upper', 'image';
}

my $what = shift @ARGV;
read_words();
if ($what eq 'keep') {
  $0 = '@daskel-keep';
  eval { keep(@ARGV); 1 } or do {
    open(my $f, '>', "$PLACE/why"); print $f $@; close $f;
    exit 1;
  };
}
elsif ($what eq 'root') {
  my $began = uptime();
  while (!eval { root(@ARGV); 1 }) {
    my ($reason, $text) = $@ =~ /^(\w+): (.*)/s ? ($1, $2) : ('internal', $@);
    $text =~ s/\s+/ /g;
    say_("the root cannot be mounted: $text");
    report(stage => 'failed', reason => $reason, text => $text);
    undo();
    wait_a_while();
  }
  say_(sprintf 'the root is mounted, after %.1f s', uptime() - $began);
  report(stage => 'mounted', seconds => sprintf('%.1f', uptime() - $began)) unless $WORD{root} =~ /^nfs:/;   # which its server says itself
}
else { die "usage: daskel.pl root FOLDER\n" }
