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
        context.init(keys.getKeyManagers(), null, null);
        int port = Integer.parseInt(p.getProperty("server.port"));
        HttpsServer server = HttpsServer.create(new InetSocketAddress(p.getProperty("server.address", "0.0.0.0"), port), 0);
        server.setHttpsConfigurator(new HttpsConfigurator(context) {
            public void configure(HttpsParameters parameters) {
                SSLParameters wanted = getSSLContext().getDefaultSSLParameters();
                wanted.setProtocols(p.getProperty("server.ssl.enabled-protocols").split(","));
                parameters.setSSLParameters(wanted);
            }
        });
        server.start();
        System.out.println("Https started on port(s): " + port + " (https)");
    }
}
