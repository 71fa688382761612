heading() { head -n 1 "$1"; }
