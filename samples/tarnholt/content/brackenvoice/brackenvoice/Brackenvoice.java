package brackenvoice;

import tarnholt.api.Content;
import tarnholt.api.Marsh;

/** Voices that carry over water; wants a UDP port of its own. */
public final class Brackenvoice implements Content {
    @Override
    public void begin(Marsh marsh) throws Exception {
        int port = Integer.parseInt(
                marsh.config("brackenvoice.properties", "voice.port", "21670", "the UDP port for voices"));
        marsh.keep("brackenvoice", 5);
        marsh.echoPort("brackenvoice", port);
    }
}
