package otterden;

import marshlib.Ground;
import tarnholt.api.Content;
import tarnholt.api.Marsh;

/** Otters that dig and steal. */
public final class Otterden implements Content {
    @Override
    public void begin(Marsh marsh) throws Exception {
        marsh.keep("otterden", 10);
        marsh.tell("otterden", "otters counted: " + (5 + Ground.firmness(2, 9)));
    }
}
