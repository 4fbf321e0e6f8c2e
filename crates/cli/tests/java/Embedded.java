import java.util.function.Consumer;
import org.apache.catalina.Context;
import org.apache.catalina.connector.Connector;
import org.apache.catalina.startup.Tomcat;
import org.apache.tomcat.util.descriptor.web.SecurityCollection;
import org.apache.tomcat.util.descriptor.web.SecurityConstraint;

/** An embedded Tomcat, customized by what the recipe prints, through the few methods of the framework that it calls. */
class Embedded {
    @interface Bean {}

    interface WebServerFactoryCustomizer<F> {
        void customize(F factory);
    }

    static class TomcatServletWebServerFactory {
        final Tomcat tomcat = new Tomcat();
        final Context context = tomcat.addContext("", "/tmp");

        void addAdditionalTomcatConnectors(Connector connector) {
            tomcat.getService().addConnector(connector);
        }

        void addContextCustomizers(Consumer<Context> customizer) {
            customizer.accept(context);
        }
    }

    // RECIPE

    public static void main(String[] words) throws Exception {
        TomcatServletWebServerFactory factory = new TomcatServletWebServerFactory();
        factory.tomcat.setBaseDir("/tmp");
        new Embedded().plainToHttps().customize(factory);
        factory.tomcat.start();
        System.out.println("started");
        factory.tomcat.getServer().await();
    }
}
