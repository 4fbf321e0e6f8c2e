// Opens a key store as Java programs do, and tells what it finds: type, file, passphrase (- for none).
import java.io.FileInputStream;
import java.security.*;
import java.security.cert.Certificate;
import java.util.*;

public class ReadStore {
    public static void main(String[] words) throws Exception {
        char[] passphrase = words[2].equals("-") ? null : words[2].toCharArray();
        KeyStore store = KeyStore.getInstance(words[0]);
        try (FileInputStream in = new FileInputStream(words[1])) {
            store.load(in, passphrase);
        }
        for (String alias : Collections.list(store.aliases())) {
            Certificate[] chain = store.getCertificateChain(alias);
            Certificate first = chain == null ? store.getCertificate(alias) : chain[0];
            StringBuilder hex = new StringBuilder();
            for (byte b : MessageDigest.getInstance("SHA-256").digest(first.getEncoded())) hex.append(String.format("%02x", b));
            String kind = store.isKeyEntry(alias) ? "key" : "trusted";
            if (store.isKeyEntry(alias)) {
                PrivateKey key = (PrivateKey) store.getKey(alias, passphrase == null ? new char[0] : passphrase);
                String algorithm = key.getAlgorithm().equals("EC") ? "SHA256withECDSA" : key.getAlgorithm().equals("RSA") ? "SHA256withRSA" : "Ed25519";
                Signature signer = Signature.getInstance(algorithm);
                signer.initSign(key);
                signer.update(new byte[] {7});
                byte[] signature = signer.sign();
                signer.initVerify(first.getPublicKey());
                signer.update(new byte[] {7});
                kind += signer.verify(signature) ? " fits" : " of another";
            }
            System.out.println(alias + " " + kind + " " + (chain == null ? 0 : chain.length) + " " + hex);
        }
    }
}
