# The store of the JVM that `java` starts; in a container one is root.
tamga setup localhost --stores java --into pair --quiet
# A JVM reads its own pair from a key store; the passphrase comes from the pipeline's secrets.
: "${PAIR_PASSPHRASE:=four random words here}"
export PAIR_PASSPHRASE
tamga export localhost --as pkcs12 --new-passphrase-env PAIR_PASSPHRASE --output pair.p12 --quiet
java Tides.java
tamga leave --yes --quiet
