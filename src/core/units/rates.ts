/** How fast something went, sample after sample, for a drawing. */
export interface Rates {
  /** Seconds from one value to the next. */
  readonly every: number;
  /** Bytes a second over each of these times, oldest first. */
  readonly values: number[];
}

/** So many values are kept at most; from there on two become one. */
export const RATES_MOST = 60;

/** Keeps rates of any length of time in few values: whenever there are too many, each two next to one another become their mean. */
export class RateHistory {
  private every: number;
  private values: number[] = [];
  /** What was passed of the value that is not whole yet. */
  private bytes = 0;
  private seconds = 0;

  /** `every`: seconds of a value, to begin with. */
  constructor(every = 1) {
    this.every = every;
  }

  /** Adds what passed in some seconds. */
  add(bytes: number, seconds: number): void {
    this.bytes += bytes;
    this.seconds += seconds;
    // what took longer than a value fills as many as it took
    while (this.seconds >= this.every * 0.95) {
      const rate = this.bytes / this.seconds;
      const taken = Math.min(this.seconds, this.every);
      this.values.push(Math.max(0, Math.round(rate)));
      this.bytes -= rate * taken;
      this.seconds -= taken;
      if (this.seconds < 1e-9) {
        this.bytes = 0;
        this.seconds = 0;
      }
      if (this.values.length > RATES_MOST) this.halve();
    }
  }

  private halve(): void {
    const halved: number[] = [];
    for (let i = 0; i < this.values.length; i += 2) {
      const [first, second] = [this.values[i]!, this.values[i + 1]];
      halved.push(second === undefined ? first : Math.round((first + second) / 2));
    }
    this.values = halved;
    this.every *= 2;
  }

  get rates(): Rates {
    return { every: this.every, values: [...this.values] };
  }
}
