import com.sun.net.httpserver.*;
import java.io.*;
import java.net.*;
import java.nio.file.*;
import java.security.KeyStore;
import java.util.Properties;
import javax.net.ssl.*;

public class Https {
    public static void main(String[] args) throws Exception {
        Properties p = new Properties();
        try (Reader in = Files.newBufferedReader(Path.of(args.length > 0 ? args[0] : "application.properties"))) { p.load(in); }
        String word = p.getProperty("server.ssl.key-store-password");
        char[] secret = System.getenv(word.substring(2, word.length() - 1)).toCharArray();
        KeyStore store = KeyStore.getInstance(p.getProperty("server.ssl.key-store-type"));
        String file = p.getProperty("server.ssl.key-store").substring("file:".length());
        try (InputStream in = new FileInputStream(file)) { store.load(in, secret); }
        if (!store.isKeyEntry(p.getProperty("server.ssl.key-alias"))) throw new IllegalStateException("no such alias");
        KeyManagerFactory keys = KeyManagerFactory.getInstance("PKIX");
        keys.init(store, secret);
        SSLContext context = SSLContext.getInstance("TLS");
        TrustManager[] trusted = null;
        boolean wanted = "need".equals(p.getProperty("server.ssl.client-auth"));
        if (wanted) {
            KeyStore clients = KeyStore.getInstance(p.getProperty("server.ssl.trust-store-type"));
            char[] opens = p.getProperty("server.ssl.trust-store-password").toCharArray();
            String path = p.getProperty("server.ssl.trust-store").substring("file:".length());
            try (InputStream in = new FileInputStream(path)) { clients.load(in, opens); }
            TrustManagerFactory factory = TrustManagerFactory.getInstance("PKIX");
            factory.init(clients);
            trusted = factory.getTrustManagers();
        }
        context.init(keys.getKeyManagers(), trusted, null);
        int port = Integer.parseInt(p.getProperty("server.port"));
        HttpsServer server = HttpsServer.create(new InetSocketAddress(p.getProperty("server.address", "0.0.0.0"), port), 0);
        server.setHttpsConfigurator(new HttpsConfigurator(context) {
            public void configure(HttpsParameters parameters) {
                SSLParameters set = getSSLContext().getDefaultSSLParameters();
                set.setProtocols(p.getProperty("server.ssl.enabled-protocols").split(","));
                set.setNeedClientAuth(wanted);
                parameters.setSSLParameters(set);
            }
        });
        server.start();
        System.out.println("Https started on port(s): " + port + " (https)");
    }
}
