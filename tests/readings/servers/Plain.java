import com.sun.net.httpserver.HttpServer;
import java.net.InetSocketAddress;

public class Plain {
    public static void main(String[] args) throws Exception {
        HttpServer s = HttpServer.create(new InetSocketAddress("127.0.0.1", Integer.parseInt(args[0])), 0);
        s.createContext("/", x -> {
            String path = x.getRequestURI().normalize().getPath();
            String says = path.equals("/assign") || path.startsWith("/assign/") ? "CLOSED" : "OTHER";
            x.sendResponseHeaders(200, says.length());
            x.getResponseBody().write(says.getBytes());
            x.close();
        });
        s.start();
    }
}
