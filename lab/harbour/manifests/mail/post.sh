#!/bin/sh
# Takes one letter, as far as this harbour needs it.
cat /etc/post/greeting
while read -r word rest; do
	case $word in
	QUIT*) echo "221 fair winds"; exit 0 ;;
	*) echo "250 noted" ;;
	esac
done
