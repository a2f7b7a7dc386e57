import { connect, createServer, type AddressInfo, type Socket } from 'node:net';

/** A door before the database that can be shut: what stands behind it keeps running. */
export async function openDoor(
  url: string,
): Promise<{ readonly url: string; shut(): void; open(): Promise<void>; close(): void }> {
  const behindUrl = new URL(url);
  const sockets = new Set<Socket>();
  const server = createServer((socket) => {
    const behind = connect(Number(behindUrl.port), behindUrl.hostname);
    for (const each of [socket, behind]) {
      sockets.add(each);
      each
        .on('error', () => undefined)
        .on('close', () => {
          sockets.delete(each);
          socket.destroy();
          behind.destroy();
        });
    }
    socket.pipe(behind).pipe(socket);
  });
  const listen = (port: number) => new Promise<void>((resolve) => server.listen(port, '127.0.0.1', resolve));
  await listen(0);
  const { port } = server.address() as AddressInfo;
  const shut = () => {
    server.close();
    for (const socket of sockets) socket.destroy();
  };
  const doorUrl = new URL(url);
  doorUrl.port = String(port);
  return { url: doorUrl.toString(), shut, open: () => listen(port), close: shut };
}
