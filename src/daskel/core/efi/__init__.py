"""EFI programs: what is in them, who signed them, and images made of several parts."""
