package tarnholt.api;

import java.io.IOException;

/** What the server offers to a content archive. */
public interface Marsh {
    /** Keeps {@code mib} mebibytes of heap for the content's own structures. */
    void keep(String owner, int mib);

    /** Writes one line to the server's log. */
    void tell(String owner, String line);

    /** Reads one key of {@code config/<file>}, writing the file with the default when it is not there. */
    String config(String file, String key, String standard, String comment) throws IOException;

    /** Answers every datagram on the UDP port with the bytes that came, until the server stops. */
    void echoPort(String owner, int port) throws IOException;

    /** True on a server; a client of the game answers false. */
    boolean dedicated();
}
