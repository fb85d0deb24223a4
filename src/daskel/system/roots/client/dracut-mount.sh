# Sourced by dracut: mounts the root of this machine.
/daskel/run root "$NEWROOT" || die "daskel: the root cannot be mounted"
