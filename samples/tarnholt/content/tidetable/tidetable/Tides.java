package tidetable;

/** High water comes every 745 minutes. */
public final class Tides {
    private static final int PERIOD = 745;

    private Tides() {}

    public static int minutesToHighWater(int minute) {
        return PERIOD - Math.floorMod(minute, PERIOD);
    }
}
