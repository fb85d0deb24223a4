"""What programs read: the shape of every command's JSON and of the control protocol."""

VERSION = 1  # rises when a key goes away or changes its meaning; keys are added without
