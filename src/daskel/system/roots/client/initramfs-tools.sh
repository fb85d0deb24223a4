# Sourced by the initrds of initramfs-tools for boot=daskel: mounts the root of this machine.

mountroot() {
	configure_networking
	/daskel/run root "$rootmnt"
}
