# Sourced by the initrds of initramfs-tools for boot=daskel: mounts the root of this machine.

mountroot() {
	six=
	for word in $(cat /proc/cmdline); do
		case $word in
		daskel.address=*:*) six=yes ;; # over IPv6, which configure_networking does not know
		esac
	done
	if [ "$six" ]; then wait_for_udev 10; else configure_networking; fi
	/daskel/run root "$rootmnt"
}
