#!/bin/sh
# Loads the first lines and writes the program that answers.
set -e
echo "$FIRST" > "$HOME_DIR/lines/first"
if [ -n "$KEY" ]; then
  echo "locked with the key of the register"
  echo "$KEY" | sha256sum > "$HOME_DIR/key"
fi
sleep 3
cat > /opt/store/answer <<END
read -r wanted
if [ -f "$HOME_DIR/lines/\$wanted" ]; then cat "$HOME_DIR/lines/\$wanted"; else echo "nothing under \$wanted"; fi
END
echo "answers are ready"
