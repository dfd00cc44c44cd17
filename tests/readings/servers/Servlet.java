import jakarta.servlet.http.*;
import java.io.*;
import org.apache.catalina.startup.Tomcat;

public class Servlet extends HttpServlet {
    private final String says;
    Servlet(String says) { this.says = says; }
    @Override protected void service(HttpServletRequest q, HttpServletResponse a) throws IOException { a.getWriter().print(says); }

    public static void main(String[] args) throws Exception {
        Tomcat t = new Tomcat();
        t.setBaseDir(java.nio.file.Files.createTempDirectory("t").toString());
        t.setPort(Integer.parseInt(args[0]));
        t.setHostname("127.0.0.1");
        var c = t.addContext("", null);
        Tomcat.addServlet(c, "closed", new Servlet("CLOSED"));
        Tomcat.addServlet(c, "other", new Servlet("OTHER"));
        c.addServletMappingDecoded("/assign", "closed");
        c.addServletMappingDecoded("/assign/*", "closed");
        c.addServletMappingDecoded("/", "other");
        t.getConnector();
        t.start();
        t.getServer().await();
    }
}
