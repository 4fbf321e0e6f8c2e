import java.io.IOException;
import java.net.InetSocketAddress;
import java.net.Socket;
import javax.net.ssl.SSLException;
import javax.net.ssl.SSLParameters;
import javax.net.ssl.SSLSocket;
import javax.net.ssl.SSLSocketFactory;

/** In: address, port, host, again and again. Out: a line each: "+", or "-" and what the JVM says, or "!" if nobody was met. */
public class Visit {
    public static void main(String[] a) {
        for (int i = 0; i + 2 < a.length; i += 3) {
            System.out.println(one(a[i], Integer.parseInt(a[i + 1]), a[i + 2]).replace('\n', ' ').replace('\r', ' '));
        }
    }

    static String one(String address, int port, String host) {
        Socket plain = new Socket();
        try {
            plain.connect(new InetSocketAddress(address, port), 15000);
            plain.setSoTimeout(15000);
        } catch (Exception e) {
            return "!" + e.getMessage();
        }
        try {
            SSLSocketFactory factory = (SSLSocketFactory) SSLSocketFactory.getDefault();
            SSLSocket s = (SSLSocket) factory.createSocket(plain, host, port, true);
            SSLParameters p = s.getSSLParameters();
            p.setEndpointIdentificationAlgorithm("HTTPS");
            s.setSSLParameters(p);
            s.startHandshake();
            // A server of TLS 1.3 says only now that it wants a client certificate; what else it says is not about certificates.
            try {
                s.setSoTimeout(2000);
                s.getOutputStream().write(("GET / HTTP/1.1\r\nHost: " + host + "\r\nConnection: close\r\n\r\n").getBytes("US-ASCII"));
                s.getInputStream().read();
            } catch (SSLException e) {
                if (String.valueOf(e.getMessage()).startsWith("Received fatal alert")) {
                    return "-" + e.getMessage();
                }
            } catch (IOException e) {
                // It says nothing, or hangs up.
            }
            s.close();
            return "+";
        } catch (Exception e) {
            return "-" + e.getMessage();
        }
    }
}
