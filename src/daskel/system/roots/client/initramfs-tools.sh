# Sourced by the initrds of initramfs-tools for boot=daskel: mounts the root of this machine.

mountroot() {
	case " $(cat /proc/cmdline) " in
	*" daskel.address="*:*) wait_for_udev 10 ;; # over IPv6, which configure_networking does not know
	*) configure_networking ;;
	esac
	/daskel/run root "$rootmnt"
}
