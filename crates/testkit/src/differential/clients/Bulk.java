import java.io.*;
import java.net.InetSocketAddress;
import java.net.Socket;
import java.nio.file.*;
import java.security.KeyStore;
import java.security.cert.*;
import javax.net.ssl.*;

/** The JVM. In: lines `number TAB host TAB address TAB port TAB directory of PEM files`. Out: `number TAB + | -words | !words`. */
public class Bulk {
    public static void main(String[] a) throws Exception {
        for (String line : Files.readAllLines(Paths.get(a[0]))) {
            String[] p = line.split("\t");
            String said;
            try {
                said = one(p[1], p[2], Integer.parseInt(p[3]), p[4]);
            } catch (Throwable e) {
                said = "-" + e.getMessage();
            }
            System.out.println(p[0] + "\t" + said.replaceAll("\\s+", " "));
            System.out.flush();
        }
    }

    static String one(String host, String address, int port, String roots) throws Exception {
        KeyStore store = KeyStore.getInstance("PKCS12");
        store.load(null, null);
        CertificateFactory factory = CertificateFactory.getInstance("X.509");
        File[] files = new File(roots).listFiles();
        java.util.Arrays.sort(files);
        for (File f : files) {
            try (InputStream in = new FileInputStream(f)) {
                store.setCertificateEntry(f.getName(), factory.generateCertificate(in));
            } catch (Exception e) {
                // What the factory does not read is in no store.
            }
        }
        TrustManagerFactory trust = TrustManagerFactory.getInstance(TrustManagerFactory.getDefaultAlgorithm());
        trust.init(store);
        SSLContext context = SSLContext.getInstance("TLS");
        context.init(null, trust.getTrustManagers(), null);
        Socket plain = new Socket();
        try {
            plain.connect(new InetSocketAddress(address, port), 15000);
            plain.setSoTimeout(15000);
        } catch (Exception e) {
            return "!" + e.getMessage();
        }
        try {
            SSLSocket s = (SSLSocket) context.getSocketFactory().createSocket(plain, host, port, true);
            SSLParameters p = s.getSSLParameters();
            p.setEndpointIdentificationAlgorithm("HTTPS");
            s.setSSLParameters(p);
            s.startHandshake();
            s.getOutputStream().write("GET / HTTP/1.1\r\nHost: x\r\nConnection: close\r\n\r\n".getBytes());
            s.getInputStream().read();
            s.close();
            return "+";
        } catch (Exception e) {
            return "-" + e.getMessage();
        }
    }
}
