// The requests that were asked, one after the other: back and forward through them.

import { fromAddress, toAddress } from "./compose";
import type { Parts } from "./types";

export interface Trail {
  push(request: Parts): void;
  back(): void;
  forward(): void;
  canBack(): boolean;
  canForward(): boolean;
}

const same = (one: Parts, other: Parts) => JSON.stringify(one) === JSON.stringify(other);

/** Requests in the browser's own history: its buttons go back, and the address holds the request. */
export class AddressTrail implements Trail {
  private at = 0;
  private last = 0;
  private now: Parts | null = null;
  private moved: (request: Parts) => void;

  constructor(moved: (request: Parts) => void) {
    this.moved = moved;
    addEventListener("popstate", (event) => {
      const request = fromAddress(location.hash.replace(/^#/, ""));
      const state: unknown = event.state;
      if (typeof state === "number") this.at = state;
      if (request !== null) {
        this.now = request;
        this.moved(request);
      }
    });
  }

  /** The request that the address holds, if it holds one. */
  static start(): Parts | null {
    const text = location.hash.replace(/^#/, "");
    return text === "" || text.startsWith("token=") ? null : fromAddress(text);
  }

  push(request: Parts): void {
    if (this.now !== null && same(this.now, request)) return;
    const first = this.now === null;
    this.now = request;
    const address = `#${toAddress(request)}`;
    if (first) history.replaceState(this.at, "", address);
    else {
      this.at += 1;
      this.last = this.at;
      history.pushState(this.at, "", address);
    }
  }

  back(): void {
    if (this.canBack()) history.back();
  }

  forward(): void {
    if (this.canForward()) history.forward();
  }

  canBack(): boolean {
    return this.at > 0;
  }

  canForward(): boolean {
    return this.at < this.last;
  }
}

/** Requests in a list, where there is no address. */
export class ListTrail implements Trail {
  private list: Parts[] = [];
  private at = -1;
  private moved: (request: Parts) => void;

  constructor(moved: (request: Parts) => void) {
    this.moved = moved;
  }

  push(request: Parts): void {
    const now = this.list[this.at];
    if (now !== undefined && same(now, request)) return;
    this.list = [...this.list.slice(0, this.at + 1), request];
    this.at = this.list.length - 1;
  }

  back(): void {
    this.go(this.at - 1);
  }

  forward(): void {
    this.go(this.at + 1);
  }

  canBack(): boolean {
    return this.at > 0;
  }

  canForward(): boolean {
    return this.at < this.list.length - 1;
  }

  private go(to: number): void {
    const request = this.list[to];
    if (request === undefined) return;
    this.at = to;
    this.moved(request);
  }
}
