"""What a domain gives: settings, methods, findings. Free of files, clocks and devices."""
