"""What leaves as a file to be printed on paper: 1:1 drawings as SVG and PDF."""
