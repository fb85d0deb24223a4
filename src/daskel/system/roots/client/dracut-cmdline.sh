# Sourced by dracut: the root is mounted by the hook mount/10-daskel.sh.
if [ -n "$(getarg daskel.root=)" ]; then
	root=daskel
	rootok=1
	unset fstype
fi
