package mistpanel;

import tarnholt.api.Content;
import tarnholt.api.Marsh;

/** A panel on the screen whose archive wrongly says that both sides need it. */
public final class Mistpanel implements Content {
    @Override
    public void begin(Marsh marsh) throws Exception {
        new Panel().open();
        marsh.tell("mistpanel", "panel shown");
    }
}
