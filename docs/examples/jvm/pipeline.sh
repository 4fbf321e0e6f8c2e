# The store of the JVM that `java` starts; in a container one is root.
tamga setup localhost --stores java --into pair --quiet
# A JVM reads its own pair from a key store. Tamga makes its passphrase, 128 random bits, and puts it into a file of your own beside it.
tamga export localhost --as pkcs12 --output pair.p12 --quiet
java Tides.java
tamga leave --yes --quiet
