package marshlib;

import java.util.TreeMap;

/** Lamps by name, with the hour at which each is lit. */
public final class Lamps {
    private final TreeMap<String, Integer> hours = new TreeMap<>();

    public void light(String name, int hour) {
        hours.put(name, Math.floorMod(hour, 24));
    }

    public int count() {
        return hours.size();
    }
}
