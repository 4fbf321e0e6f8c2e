import com.sun.net.httpserver.HttpsConfigurator;
import com.sun.net.httpserver.HttpsServer;
import java.io.FileInputStream;
import java.net.InetAddress;
import java.net.InetSocketAddress;
import java.net.URI;
import java.net.http.HttpClient;
import java.net.http.HttpRequest;
import java.net.http.HttpResponse.BodyHandlers;
import java.nio.file.Files;
import java.nio.file.Path;
import java.security.KeyStore;
import javax.net.ssl.KeyManagerFactory;
import javax.net.ssl.SSLContext;

/** A service and its test in one JVM: the client is java.net.http with its defaults. */
public class Tides {
    public static void main(String[] args) throws Exception {
        // The pair as a key store: tamga export localhost --as pkcs12 --output pair.p12
        String passphrase = Files.readString(Path.of("pair.p12.passphrase")).strip();
        KeyStore store = KeyStore.getInstance("PKCS12");
        try (var file = new FileInputStream("pair.p12")) {
            store.load(file, passphrase.toCharArray());
        }
        var keys = KeyManagerFactory.getInstance(KeyManagerFactory.getDefaultAlgorithm());
        keys.init(store, passphrase.toCharArray());
        SSLContext tls = SSLContext.getInstance("TLS");
        tls.init(keys.getKeyManagers(), null, null);

        HttpsServer server = HttpsServer.create(new InetSocketAddress(InetAddress.getLoopbackAddress(), 0), 0);
        server.setHttpsConfigurator(new HttpsConfigurator(tls));
        server.createContext("/", exchange -> {
            byte[] body = "high water at 14:20".getBytes();
            exchange.sendResponseHeaders(200, body.length);
            exchange.getResponseBody().write(body);
            exchange.close();
        });
        server.start();
        try {
            URI uri = URI.create("https://localhost:" + server.getAddress().getPort() + "/");
            var answer = HttpClient.newHttpClient().send(HttpRequest.newBuilder(uri).build(), BodyHandlers.ofString());
            if (!answer.body().equals("high water at 14:20")) {
                throw new AssertionError(answer.body());
            }
            System.out.println("the JVM opens it without a warning");
        } finally {
            server.stop(0);
        }
    }
}
