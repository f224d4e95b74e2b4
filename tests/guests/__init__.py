"""Real machines: small guests at two sites on this machine. They need root, and Debian packages for
libvirt."""
