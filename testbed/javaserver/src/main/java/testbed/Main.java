package testbed;

import de.bwaldvogel.mongo.MongoServer;
import de.bwaldvogel.mongo.MongoVersion;
import de.bwaldvogel.mongo.backend.memory.MemoryBackend;
import java.util.List;

/** Runs a document server in memory, with a log, at the port given. */
public final class Main {
    /** The protocol version that current drivers ask for. */
    private static final class Current implements MongoVersion {
        @Override
        public List<Integer> getVersionArray() {
            return List.of(5, 0, 0);
        }

        @Override
        public int getWireVersion() {
            return 13;
        }

        @Override
        public String toVersionString() {
            return "5.0.0";
        }
    }

    public static void main(String[] args) throws Exception {
        MemoryBackend backend = new MemoryBackend();
        backend.version(new Current());
        MongoServer server = new MongoServer(backend);
        server.enableOplog();
        server.bind("127.0.0.1", Integer.parseInt(args[0]));
        System.out.println("listening");
        Thread.currentThread().join();
    }
}
