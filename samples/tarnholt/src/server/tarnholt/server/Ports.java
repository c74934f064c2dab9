package tarnholt.server;

import java.io.BufferedReader;
import java.io.IOException;
import java.io.InputStreamReader;
import java.io.OutputStream;
import java.net.DatagramPacket;
import java.net.DatagramSocket;
import java.net.InetAddress;
import java.net.InetSocketAddress;
import java.net.ServerSocket;
import java.net.Socket;
import java.nio.charset.StandardCharsets;
import java.util.function.Function;
import java.util.function.Supplier;

/** Listening sockets on daemon threads. A port in use is the JVM's own BindException. */
final class Ports {
    private final InetAddress bind;

    Ports(String address) throws IOException {
        bind = InetAddress.getByName(address);
    }

    /** Answers one line with one line or more, then closes; the longest request is 64 KiB. */
    void lines(String who, int port, Function<String, String> answer) throws IOException {
        ServerSocket server = new ServerSocket();
        server.setReuseAddress(true);
        server.bind(new InetSocketAddress(bind, port), 50);
        daemon(who, () -> {
            while (true) {
                Socket peer = server.accept();
                daemon(who, () -> serve(peer, answer));
            }
        });
    }

    private static void serve(Socket peer, Function<String, String> answer) throws IOException {
        try (peer) {
            peer.setSoTimeout(5000);
            BufferedReader in = new BufferedReader(new InputStreamReader(peer.getInputStream(), StandardCharsets.UTF_8));
            StringBuilder line = new StringBuilder();
            for (int c = in.read(); c >= 0 && c != '\n' && line.length() < 65536; c = in.read()) {
                line.append((char) c);
            }
            OutputStream out = peer.getOutputStream();
            out.write(answer.apply(line.toString().trim()).getBytes(StandardCharsets.UTF_8));
            out.flush();
        }
    }

    /** Answers every datagram with the supplied text, or with what came where there is none. */
    void datagrams(String who, int port, Supplier<String> answer) throws IOException {
        DatagramSocket socket = new DatagramSocket(new InetSocketAddress(bind, port));
        daemon(who, () -> {
            byte[] room = new byte[1400];
            while (true) {
                DatagramPacket packet = new DatagramPacket(room, room.length);
                socket.receive(packet);
                if (answer != null) {
                    packet.setData(answer.get().getBytes(StandardCharsets.UTF_8));
                }
                socket.send(packet);
            }
        });
    }

    private interface Work {
        void run() throws IOException;
    }

    private static void daemon(String who, Work work) {
        Thread thread = new Thread(() -> {
            try {
                work.run();
            } catch (IOException gone) {
                Log.line(who, "connection lost: " + gone.getMessage());
            }
        }, who);
        thread.setDaemon(true);
        thread.start();
    }
}
