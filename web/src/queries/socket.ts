import type { Schemas } from '../api/client';

export const REFUSED = 4403;
const AGAIN_MS = 1500;

/** Everything that the socket of a production carries. */
export type Message = Schemas['Changed'] | Schemas['Live'] | Schemas['Trouble'];

export type Listener = {
  onMessage: (message: Message) => void;
  onOpen?: () => void;
  onClose?: (refused: boolean) => void;
};

/** The one socket of a production, shared by whoever listens; it connects again by itself and closes with the last of them. */
export class Socket {
  private static sockets = new Map<number, Socket>();
  private listeners = new Set<Listener>();
  private watching = 0;
  private socket: WebSocket | null = null;
  private timer = 0;

  static of(production: number): Socket {
    const found = Socket.sockets.get(production) ?? new Socket(production);
    Socket.sockets.set(production, found);
    return found;
  }

  private constructor(private production: number) {}

  /** Hear everything that comes. Returns how to stop. */
  listen(listener: Listener): () => void {
    this.listeners.add(listener);
    if (this.socket === null) this.connect();
    else if (this.socket.readyState === WebSocket.OPEN) listener.onOpen?.();
    return () => {
      this.listeners.delete(listener);
      if (this.listeners.size > 0) return;
      window.clearTimeout(this.timer);
      Socket.sockets.delete(this.production);
      const socket = this.socket;
      this.socket = null;
      socket?.close();
    };
  }

  /** Ask for what the cameras see, for as long as somebody wants it. Returns how to stop. */
  watch(): () => void {
    this.watching += 1;
    this.say();
    return () => {
      this.watching -= 1;
      this.say();
    };
  }

  private say() {
    if (this.socket?.readyState === WebSocket.OPEN) this.socket.send(JSON.stringify({ watch: this.watching > 0 }));
  }

  private connect() {
    const socket = new WebSocket(`${window.location.protocol === 'https:' ? 'wss' : 'ws'}://${window.location.host}/live/${this.production}`);
    this.socket = socket;
    socket.onopen = () => {
      if (this.watching > 0) this.say();
      this.listeners.forEach((l) => l.onOpen?.());
    };
    socket.onmessage = (event) => {
      const message = JSON.parse(String(event.data)) as Message;
      this.listeners.forEach((l) => l.onMessage(message));
    };
    socket.onclose = (event) => {
      if (this.socket !== socket) return;
      const refused = event.code === REFUSED;
      this.listeners.forEach((l) => l.onClose?.(refused));
      if (!refused) this.timer = window.setTimeout(() => this.connect(), AGAIN_MS);
    };
  }
}
