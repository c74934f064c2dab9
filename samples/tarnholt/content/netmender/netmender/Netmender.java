package netmender;

import tarnholt.api.Content;
import tarnholt.api.Marsh;

/** Mends nets on the quay. */
public final class Netmender implements Content {
    @Override
    public void begin(Marsh marsh) throws Exception {
        marsh.keep("netmender", 3);
        marsh.tell("netmender", "nets mended");
    }
}
