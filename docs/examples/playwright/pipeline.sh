# Chromium reads the database in the home directory, also when a script starts it: here the root goes in.
tamga setup localhost --stores chromium --into pair --quiet
node padlock.mjs
tamga leave --yes --quiet
