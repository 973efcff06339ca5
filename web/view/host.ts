// What answers a page: a server over HTTP, or a notebook's kernel. Both take the same messages.

import type { Fault, Message } from "./types";

export class Refused extends Error {
  fault: Fault;

  constructor(fault: Fault) {
    super(fault.reason);
    this.fault = fault;
  }
}

export interface Asking<T> { number: number; answer: Promise<T> }

/** A host, and what it lets a page do. */
export interface Host {
  /** Whether the page has an address of its own that can hold the request. */
  addressed: boolean;
  ask<T>(message: Message): Asking<T>;
}

/** A host that says how many of its questions are being answered; pictures and what only watches do not count. */
export function watched(host: Host, changed: (count: number) => void): Host {
  const aside = new Set(["progress", "stop", "chart"]);
  let count = 0;
  const counts = (step: number) => {
    count += step;
    changed(count);
  };
  return {
    addressed: host.addressed,
    ask<T>(message: Message): Asking<T> {
      const asking = host.ask<T>(message);
      if (!aside.has(message.kind)) {
        counts(1);
        asking.answer.then(() => counts(-1), () => counts(-1));
      }
      return asking;
    },
  };
}

interface Reply { number: number; answer?: unknown; fault?: Partial<Fault> }

const NO_FAULT: Fault = { reason: "", fix: "", text: "", start: 0, stop: 0, stopped: false };

function opened<T>(reply: Reply): T {
  if (reply.fault) throw new Refused({ ...NO_FAULT, ...reply.fault });
  return reply.answer as T;
}

/** The local server that the shell started. */
export class Served implements Host {
  addressed = true;
  private last = 0;
  private token: string;

  constructor(token: string) {
    this.token = token;
  }

  ask<T>(message: Message): Asking<T> {
    this.last += 1;
    const number = this.last;
    return { number, answer: this.sent<T>(number, message) };
  }

  private async sent<T>(number: number, message: Message): Promise<T> {
    let response: Response;
    try {
      response = await fetch("ask", {
        method: "POST", body: JSON.stringify({ number, message }), cache: "no-store", credentials: "omit",
        headers: { "content-type": "application/json", "x-relatum-token": this.token },
      });
    } catch {
      throw new Refused({ ...NO_FAULT, reason: "Relatum does not answer any more.", fix: "Start it again: relatum view." });
    }
    if (!response.ok) throw new Refused({ ...NO_FAULT, reason: (await response.text()).trim() });
    return opened<T>(await response.json());
  }
}

/** What a notebook gives a widget: messages to its kernel and from it. */
export interface Channel {
  send(data: unknown): void;
  on(event: "msg:custom", hear: (data: Reply) => void): void;
  off(event: "msg:custom", hear: (data: Reply) => void): void;
}

/** The kernel of a notebook. */
export class Kernel implements Host {
  addressed = false;
  private last = 0;
  private waiting = new Map<number, (reply: Reply) => void>();
  private hear = (reply: Reply) => {
    this.waiting.get(reply.number)?.(reply);
    this.waiting.delete(reply.number);
  };
  private channel: Channel;

  constructor(channel: Channel) {
    this.channel = channel;
    // Several views of one widget have numbers of their own.
    this.last = Math.floor(Math.random() * 1e9) * 1000;
    channel.on("msg:custom", this.hear);
  }

  ask<T>(message: Message): Asking<T> {
    this.last += 1;
    const number = this.last;
    const answer = new Promise<Reply>((resolve) => {
      this.waiting.set(number, resolve);
      this.channel.send({ number, message });
    }).then((reply) => opened<T>(reply));
    return { number, answer };
  }

  close(): void {
    this.channel.off("msg:custom", this.hear);
  }
}
