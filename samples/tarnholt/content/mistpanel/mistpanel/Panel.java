package mistpanel;

import tarnholt.client.Screen;

/** Needs the client's window class, which no server has. */
final class Panel extends Screen {}
