"""The bytes for a path, and who may have them: computed files, GRUB's configuration, uploads. No
DHCP."""
