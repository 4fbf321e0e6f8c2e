// Writes what Java programs leave behind: a JKS with a key of Tamga's kind, a DSA key and a root; keys under PBES1 and PKCS#12's
// own encryption; keys of kinds that no TLS certificate has. Words: directory, certificate, passphrase.
import java.io.*;
import java.nio.file.*;
import java.security.*;
import java.security.cert.*;
import javax.crypto.*;
import javax.crypto.spec.*;

public class WriteForeign {
    public static void main(String[] words) throws Exception {
        Path folder = Path.of(words[0]);
        char[] passphrase = words[2].toCharArray();
        X509Certificate certificate;
        try (InputStream in = new FileInputStream(words[1])) {
            certificate = (X509Certificate) CertificateFactory.getInstance("X.509").generateCertificate(in);
        }
        java.security.cert.Certificate[] chain = {certificate};
        KeyPair ec = pair("EC", 256);
        KeyStore store = KeyStore.getInstance("JKS");
        store.load(null, null);
        store.setKeyEntry("old", pair("DSA", 1024).getPrivate(), passphrase, chain);
        store.setKeyEntry("charts", ec.getPrivate(), passphrase, chain);
        store.setCertificateEntry("root", certificate);
        try (OutputStream out = new FileOutputStream(folder.resolve("mixed.jks").toFile())) {
            store.store(out, passphrase);
        }
        String[] forms = {"PBEWithMD5AndDES", "PBEWithSHA1AndDESede", "PBEWithSHA1AndRC2_40"};
        for (String form : forms) {
            SecretKey key = SecretKeyFactory.getInstance(form).generateSecret(new PBEKeySpec(passphrase));
            Cipher cipher = Cipher.getInstance(form);
            cipher.init(Cipher.ENCRYPT_MODE, key);
            byte[] locked = cipher.doFinal(ec.getPrivate().getEncoded());
            byte[] whole = new EncryptedPrivateKeyInfo(cipher.getParameters(), locked).getEncoded();
            Files.write(folder.resolve(form + ".der"), whole);
        }
        Files.write(folder.resolve("dsa.der"), pair("DSA", 1024).getPrivate().getEncoded());
        Files.write(folder.resolve("x25519.der"), KeyPairGenerator.getInstance("X25519").generateKeyPair().getPrivate().getEncoded());
        Files.write(folder.resolve("ed448.der"), KeyPairGenerator.getInstance("Ed448").generateKeyPair().getPrivate().getEncoded());
        StringBuilder hex = new StringBuilder();
        for (byte b : MessageDigest.getInstance("SHA-256").digest(ec.getPublic().getEncoded())) hex.append(String.format("%02x", b));
        System.out.println(hex);
    }

    static KeyPair pair(String kind, int size) throws Exception {
        KeyPairGenerator generator = KeyPairGenerator.getInstance(kind);
        generator.initialize(size);
        return generator.generateKeyPair();
    }
}
