package fogbankshaders;

import tarnholt.api.Content;
import tarnholt.api.Marsh;
import tarnholt.client.Brush;

/** Fog on the water, drawn by the player's machine. */
public final class Fogbank implements Content {
    @Override
    public void begin(Marsh marsh) {
        Brush.tint(200, 205, 210);
    }
}
