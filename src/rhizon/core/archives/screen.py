"""What of Java's desktop packages needs a screen: on a machine without one it fails, all the rest of them works.

The methods and constructors that the Java SE API documents to throw HeadlessException (java.awt and javax.swing,
release 17), and the few that refuse a machine without a screen in another way (Robot, SystemTray, Desktop).
"""

import re

__all__ = ["SCREEN_CLASSES", "needs_screen"]

_MADE = "<init>"
_AWT = (
    *("Button", "Checkbox", "CheckboxMenuItem", "Choice", "Dialog", "FileDialog", "Frame", "Label", "List", "Menu"),
    *("MenuBar", "MenuItem", "PopupMenu", "Robot", "ScrollPane", "Scrollbar", "TextArea", "TextField", "TrayIcon"),
    *("Window", "dnd/DragSource", "dnd/DropTarget"),
)
_SWING = ("JApplet", "JDialog", "JFrame", "JWindow")
_CALLS = {
    "java/awt/Desktop": ("getDesktop",),
    "java/awt/GraphicsEnvironment": (
        *("getCenterPoint", "getDefaultScreenDevice", "getMaximumWindowBounds", "getScreenDevices"),
    ),
    "java/awt/MouseInfo": ("getNumberOfButtons", "getPointerInfo"),
    "java/awt/SystemTray": ("getSystemTray",),
    "java/awt/Toolkit": (
        *("areExtraMouseButtonsEnabled", "createCustomCursor", "getBestCursorSize", "getColorModel", "getScreenInsets"),
        *("getMaximumCursorColors", "getMenuShortcutKeyMask", "getMenuShortcutKeyMaskEx", "getScreenResolution"),
        *("getScreenSize", "getSystemClipboard", "getSystemSelection", "isDynamicLayoutActive"),
        *("isFrameStateSupported", "mapInputMethodHighlight", "setDynamicLayout"),
    ),
    "java/awt/print/PrinterJob": ("pageDialog", "printDialog"),
    "javax/swing/JColorChooser": ("createDialog", "showDialog"),
    "javax/swing/JFileChooser": ("showDialog", "showOpenDialog", "showSaveDialog"),
    "javax/swing/JOptionPane": (
        *("createDialog", "getRootFrame", "showConfirmDialog", "showInputDialog", "showMessageDialog"),
        "showOptionDialog",
    ),
}
_NEEDS = frozenset(
    {(f"java/awt/{name}", _MADE) for name in _AWT}
    | {(f"javax/swing/{name}", _MADE) for name in _SWING}
    | {(owner, name) for owner, names in _CALLS.items() for name in names}
)


# A class that has such a method, as a class file names it.
SCREEN_CLASSES = re.compile(b"|".join(sorted({owner.encode() for owner, _ in _NEEDS})))


def needs_screen(owner: str, name: str) -> bool:
    """Whether a method (``<init>``: a constructor) of a class, named with slashes, fails without a screen."""
    return (owner, name) in _NEEDS
