// One page over HTTPS by a JVM that checks revocation: of the server's certificate by OCSP, of the intermediate by its list.
//
// java Get.java URL ROOT
import java.io.FileInputStream;
import java.net.URI;
import java.security.KeyStore;
import java.security.Security;
import java.security.cert.CertificateFactory;
import javax.net.ssl.HttpsURLConnection;
import javax.net.ssl.SSLContext;
import javax.net.ssl.TrustManagerFactory;
import javax.net.ssl.CertPathTrustManagerParameters;
import java.security.cert.PKIXBuilderParameters;
import java.security.cert.X509CertSelector;

public class Get {
    public static void main(String[] args) throws Exception {
        Security.setProperty("ocsp.enable", "true");
        System.setProperty("com.sun.security.enableCRLDP", "true");
        KeyStore store = KeyStore.getInstance("PKCS12");
        store.load(null, null);
        store.setCertificateEntry("root", CertificateFactory.getInstance("X.509").generateCertificate(new FileInputStream(args[1])));
        PKIXBuilderParameters wanted = new PKIXBuilderParameters(store, new X509CertSelector());
        wanted.setRevocationEnabled(true);
        TrustManagerFactory factory = TrustManagerFactory.getInstance("PKIX");
        factory.init(new CertPathTrustManagerParameters(wanted));
        SSLContext context = SSLContext.getInstance("TLS");
        context.init(null, factory.getTrustManagers(), null);
        HttpsURLConnection c = (HttpsURLConnection) new URI(args[0]).toURL().openConnection();
        c.setSSLSocketFactory(context.getSocketFactory());
        System.out.println("accepted " + c.getResponseCode());
    }
}
