#!/usr/bin/perl
# What a file system does, a line each: `behaviours.pl FOLDER` works in new folders below FOLDER.
# Run as root on tmpfs and on a root over NFS, the lines are compared.
use strict; use warnings; no warnings "exec"; use POSIX; use Fcntl qw(:DEFAULT :flock :mode); use Socket;
my $top = shift; my ($number, @rows) = (0);
my ($NOBODY, $GROUP, $OTHER) = (65534, 65534, 1234);
sub e { my $ok = shift; return $ok ? "good" : "E" . ($! + 0) }
sub put { my ($name, $text) = @_; open(my $f, ">", $name) or return e(0); print $f $text // "x"; close $f; "good" }
sub get { my $name = shift; open(my $f, "<", $name) or return e(0); local $/; my $t = <$f>; close $f; $t // "" }
sub mode { my @s = lstat(shift) or return e(0); sprintf "%o", $s[2] & 07777 }
sub list { opendir(my $d, shift) or return e(0); join ",", sort grep { !/^\.\.?$/ } readdir $d }
# In a process of its own, as this user with these groups; what the function returns.
sub as { my ($uid, $groups, $do) = @_;
  pipe(my $r, my $w); my $pid = fork;
  if (!$pid) { $) = "$groups->[0] @$groups"; $( = $groups->[0]; POSIX::setgid($groups->[0]); POSIX::setuid($uid);
    my $said = eval { $do->() } // "died"; syswrite $w, $said; POSIX::_exit(0) }
  close $w; local $/; my $said = <$r>; waitpid $pid, 0; $said // "" }
sub nobody { as($NOBODY, [$GROUP], shift) }
sub t { my ($name, $do) = @_; my $here = sprintf "%s/%03d", $top, ++$number;
  mkdir $top; mkdir $here or die "$here: $!"; chmod 0777, $here; chdir $here; umask 022;
  my $said = eval { $do->() }; $said = "died: $@" unless defined $said; $said =~ s/\n/\\n/g;
  print "$name: $said\n"; chdir "/" }

t "names: exclusive create", sub { put "a"; e(sysopen my $f, "a", O_CREAT|O_EXCL|O_WRONLY) };
t "names: 255 bytes", sub { put("n" x 255) . length list "." };
t "names: 256 bytes", sub { put "n" x 256 };
t "names: odd bytes", sub { put "a\nb\xff\x01 "; unpack "H*", list "." };
t "names: missing", sub { get "a" };
t "names: below a file", sub { put "a"; get "a/b" };
t "names: folder twice", sub { mkdir "a"; e(mkdir "a") };
t "names: folder in nothing", sub { e(mkdir "a/b") };
t "names: remove a full folder", sub { mkdir "a"; put "a/b"; e(rmdir "a") };
t "names: unlink a folder", sub { mkdir "a"; e(syscall(87, my $n = "a") == 0) };
t "names: rmdir a file", sub { put "a"; e(rmdir "a") };
t "names: dots", sub { join ",", e(mkdir "."), e(rmdir "."), e(rename ".", "x") };
t "links: count", sub { put "a"; link "a", "b"; (lstat "a")[3] };
t "links: same content", sub { put "a", "1"; link "a", "b"; put "b", "22"; get "a" };
t "links: to a folder", sub { mkdir "a"; e(link "a", "b") };
t "links: over a file", sub { put "a"; put "b"; e(link "a", "b") };
t "links: one removed", sub { put "a", "1"; link "a", "b"; unlink "a"; get("b") . (lstat "b")[3] };
t "links: of a folder", sub { mkdir "a"; mkdir "a/b"; mkdir "a/c"; (lstat "a")[3] };
t "links: symbolic", sub { symlink "x/y", "a"; readlink("a") . (lstat "a")[7] };
t "links: dangling", sub { symlink "no", "a"; get "a" };
t "links: a loop", sub { symlink "b", "a"; symlink "a", "b"; get "a" };
t "links: long text", sub { my $x = "y" x 1000; symlink $x, "a"; readlink("a") eq $x };
t "links: readlink of a file", sub { put "a"; e(defined readlink "a") };
t "links: hard link to a symbolic", sub { symlink "x", "a"; e(syscall(86, my $o = "a", my $n = "b") == 0) . readlink "b" };
t "rename: over a file", sub { put "a", "1"; put "b", "2"; rename "a", "b"; get("b") . list "." };
t "rename: over an empty folder", sub { mkdir "a"; put "a/x"; mkdir "b"; e(rename "a", "b") . list "b" };
t "rename: over a full folder", sub { mkdir "a"; mkdir "b"; put "b/x"; e(rename "a", "b") };
t "rename: into itself", sub { mkdir "a"; e(rename "a", "a/b") };
t "rename: file over folder", sub { put "a"; mkdir "b"; e(rename "a", "b") };
t "rename: folder over file", sub { mkdir "a"; put "b"; e(rename "a", "b") };
t "rename: to another name of the same file", sub { put "a"; link "a", "b"; rename "a", "b"; list "." };
t "rename: nothing", sub { e(rename "a", "b") };
t "rename: a folder knows where it is", sub { mkdir "a"; mkdir "b"; mkdir "a/c"; put "b/x"; rename "a/c", "b/c"; get "b/c/../x" };
t "rename: a symbolic link", sub { symlink "x", "a"; rename "a", "b"; readlink "b" };
t "open: read after unlink", sub { put "a", "1"; open my $f, "<", "a"; unlink "a"; <$f> };
t "open: write after unlink", sub { open my $f, "+>", "a"; unlink "a"; syswrite $f, "22"; sysseek $f, 0, 0; sysread $f, my $b, 9; $b };
t "open: renamed over", sub { put "a", "1"; put "b", "2"; open my $f, "<", "b"; rename "a", "b"; <$f> . get "b" };
t "open: links after unlink", sub { open my $f, ">", "a"; unlink "a"; (stat $f)[3] };
t "open: listed after unlink", sub { open my $f, ">", "a"; unlink "a"; list "." };
t "open: folder of an unlinked file", sub { mkdir "d"; open my $f, ">", "d/a"; unlink "d/a"; e(rmdir "d") };
t "open: after chmod", sub { nobody sub { open my $f, "+>", "a" or return e(0); chmod 0, "a"; syswrite $f, "22"; sysseek $f, 0, 0; sysread $f, my $b, 9; $b } };
t "modes: chmod", sub { put "a"; chmod 0640, "a"; mode "a" };
t "modes: umask", sub { umask 027; put "a"; mkdir "b"; mode("a") . mode "b" };
t "modes: owner writes 0444", sub { nobody sub { put "a"; chmod 0444, "a"; e(open my $f, ">>", "a") } };
t "modes: new file of 0400", sub { nobody sub { sysopen(my $f, "a", O_CREAT|O_RDWR, 0400) or return e(0); e(syswrite $f, "x") } };
t "modes: owner reads 0000", sub { nobody sub { put "a"; chmod 0, "a"; get "a" } };
t "modes: others read 0600", sub { put "a"; chmod 0600, "a"; nobody sub { get "a" } };
t "modes: others read 0604", sub { put "a", "1"; chmod 0604, "a"; nobody sub { get "a" } };
t "modes: others below 0700", sub { mkdir "d"; put "d/a"; chmod 0700, "d"; nobody sub { get "d/a" } };
t "modes: list without read", sub { mkdir "d"; put "d/a", "1"; chmod 0711, "d"; nobody sub { list("d") . get "d/a" } };
t "modes: read without search", sub { mkdir "d"; put "d/a", "1"; chmod 0744, "d"; nobody sub { list("d") . get "d/a" } };
t "modes: root reads 0000", sub { put "a", "1"; chmod 0, "a"; get "a" };
t "modes: run without x", sub { put "a", "#!/bin/sh\nexit 0\n"; e(system("./a") == 0) };
t "modes: run 0711", sub { put "a", "#!/bin/sh\n"; chmod 0711, "a"; nobody sub { -x "a" ? "x" : "-" } };
t "modes: chmod by others", sub { put "a"; nobody sub { e(chmod 0777, "a") } };
t "modes: chown by the owner", sub { nobody sub { put "a"; e(chown 0, -1, "a") } };
t "groups: a second one", sub { put "a", "1"; chown 0, $OTHER, "a"; chmod 0640, "a"; as($NOBODY, [$GROUP, $OTHER], sub { get "a" }) };
t "groups: not a member", sub { put "a", "1"; chown 0, $OTHER, "a"; chmod 0640, "a"; nobody sub { get "a" } };
t "groups: sixteen more", sub { put "a", "1"; chown 0, 116, "a"; chmod 0640, "a"; as($NOBODY, [101..116], sub { get "a" }) };
t "groups: given by the owner", sub { as($NOBODY, [$GROUP, $OTHER], sub { put "a"; e(chown -1, $OTHER, "a") . (lstat "a")[5] }) };
t "set-id: kept", sub { put "a"; chmod 06755, "a"; mode "a" };
t "set-id: written by others", sub { put "a"; chmod 06777, "a"; nobody sub { open my $f, ">>", "a"; syswrite $f, "x"; close $f }; mode "a" };
t "set-id: written by root", sub { put "a"; chmod 06777, "a"; open my $f, ">>", "a"; syswrite $f, "x"; close $f; mode "a" };
t "set-id: cut by others", sub { put "a", "123"; chmod 06777, "a"; nobody sub { truncate "a", 1 }; mode "a" };
t "set-id: chown", sub { put "a"; chmod 06755, "a"; chown $NOBODY, $GROUP, "a"; mode "a" };
t "set-id: group of a folder", sub { mkdir "d"; chown 0, $OTHER, "d"; chmod 02777, "d"; put "d/a"; mkdir "d/b"; (lstat "d/a")[5] . "," . (lstat "d/b")[5] . mode "d/b" };
t "set-id: group of another", sub { nobody sub { put "a"; chmod 02755, "a"; mode "a" } };
t "set-id: not a member", sub { put "a"; chown $NOBODY, $OTHER, "a"; nobody sub { chmod 02755, "a" }; mode "a" };
t "sticky: others", sub { mkdir "d"; chmod 01777, "d"; put "d/a"; nobody sub { e(unlink "d/a") . e(rename "d/a", "d/b") } };
t "sticky: owner", sub { mkdir "d"; chmod 01777, "d"; nobody sub { put "d/a"; e(unlink "d/a") } };
t "times: set", sub { put "a"; utime 1000000000, 1100000000, "a"; join ",", (lstat "a")[8, 9] };
t "times: after 2038", sub { put "a"; utime 3000000000, 3000000000, "a"; (lstat "a")[9] };
t "times: a write", sub { put "a"; utime 1, 1, "a"; put "a", "2"; (lstat "a")[9] > 1 ? "new" : "old" };
t "times: a folder", sub { mkdir "d"; utime 1, 1, "d"; put "d/a"; (lstat "d")[9] > 1 ? "new" : "old" };
t "times: chmod leaves mtime", sub { put "a"; utime 5, 5, "a"; chmod 0600, "a"; (lstat "a")[9] };
t "times: of others", sub { put "a"; chmod 0666, "a"; nobody sub { e(utime 1, 1, "a") . e(utime undef, undef, "a") } };
t "truncate: shorter", sub { put "a", "12345"; truncate "a", 2; get "a" };
t "truncate: longer", sub { put "a", "1"; truncate "a", 4; unpack "H*", get "a" };
t "truncate: open", sub { put "a", "12345"; open my $f, "+<", "a"; truncate $f, 1; get "a" };
t "truncate: by others", sub { put "a"; nobody sub { e(truncate "a", 0) } };
t "truncate: a folder", sub { mkdir "d"; e(truncate "d", 0) };
t "holes", sub { open my $f, "+>", "a"; sysseek $f, 1 << 20, 0; syswrite $f, "x"; sysseek $f, 1000, 0; sysread $f, my $b, 2; unpack("H*", $b) . "," . (-s "a") . ((stat $f)[12] < 100 ? " sparse" : " full") };
t "append: two at once", sub { open my $f, ">>", "a"; open my $g, ">>", "a"; syswrite $f, "1"; syswrite $g, "2"; syswrite $f, "3"; get "a" };
t "append: after truncate", sub { open my $f, ">>", "a"; syswrite $f, "123"; truncate "a", 0; syswrite $f, "4"; get "a" };
t "read: at the end", sub { put "a", "1"; open my $f, "<", "a"; sysseek $f, 99, 0; sysread($f, my $b, 9) };
t "read: a folder", sub { mkdir "d"; open my $f, "<", "d" or return e(0); e(defined sysread $f, my $b, 1) };
t "write: a folder", sub { mkdir "d"; e(open my $f, ">", "d") };
t "mmap: sees a write", sub { put "a", "1234"; open my $f, "+<", "a"; my $at = syscall(9, 0, 4096, 1, 1, fileno $f, 0);
  syswrite $f, "5"; my $b = unpack "P4", pack "Q", $at; syscall(11, $at, 4096); $b };
t "locks: flock", sub { open my $f, ">", "a"; flock $f, LOCK_EX; nobody sub { open my $g, "<", "a"; e(flock $g, LOCK_SH|LOCK_NB) } };
t "devices: null", sub { system "mknod a c 1 3"; put("a", "x") . get("a") . ((lstat "a")[6]) };
t "devices: by others", sub { nobody sub { e(system("mknod a c 1 3 2>/dev/null") == 0) } };
t "pipes", sub { POSIX::mkfifo("a", 0600); my $pid = fork; if (!$pid) { put "a", "through"; POSIX::_exit(0) } my $x = get "a"; waitpid $pid, 0; $x };
t "sockets", sub { socket my $s, AF_UNIX, SOCK_STREAM, 0; e(bind $s, sockaddr_un "a") . (S_ISSOCK((lstat "a")[2]) ? "socket" : "-") };
t "folders: many names", sub { put sprintf "%05d", $_ for 1 .. 1500; scalar split /,/, list "." };
t "folders: removed while listed", sub { put sprintf "%05d", $_ for 1 .. 700; opendir my $d, "."; while (defined(my $n = readdir $d)) { unlink $n } list "." };
t "folders: grown while listed", sub { put sprintf "old%05d", $_ for 1 .. 700; opendir my $d, "."; my %seen; my $i = 0;
  while (defined(my $n = readdir $d)) { $seen{$n}++ if $n =~ /old/; put sprintf "new%05d", $i++ if $i < 300 }
  scalar(keys %seen) . "," . grep { $_ > 1 } values %seen };
t "folders: removed while inside", sub { mkdir "d"; chdir "d"; rmdir "../d"; e(open my $f, ">", "x") };
