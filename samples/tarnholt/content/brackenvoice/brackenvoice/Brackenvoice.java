package brackenvoice;

import tarnholt.api.Content;
import tarnholt.api.Marsh;

/** Voices that carry over water; wants a UDP port of its own. */
public final class Brackenvoice implements Content {
    @Override
    public void begin(Marsh marsh) throws Exception {
        int port = Integer.parseInt(
                marsh.config("brackenvoice.properties", "voice.port", "21670", "the UDP port for voices"));
        int reach = Integer.parseInt(
                marsh.config("brackenvoice.properties", "voice.reach", "6", "how far a voice carries, in chains"));
        marsh.keep("brackenvoice", 5);
        marsh.tell("brackenvoice", "voices carry " + reach + " chains");
        marsh.echoPort("brackenvoice", port);
    }
}
