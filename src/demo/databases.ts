import pg from "pg";
import { Chance } from "./chance";

/** The bakery's order book: a real database, on a server of the demo's own, that grows by a day's orders. */
export const ORDER_BOOK = "order_book";

const CUSTOMERS = [
  ["Thornquay Chandlers", "Quay 3"],
  ["Pendlewick Housing Trust, canteen", "Tern House"],
  ["Kestrin Aquaculture", "North pier"],
  ["Orrin & Sons", "Yard 9"],
  ["Quillmere Boats", "Slip 2"],
  ["The Lantern Inn", "Fold Street 1"],
] as const;
const PRODUCTS = [
  ["Rye loaf", 420],
  ["Harbour roll", 95],
  ["Seed bread", 510],
  ["Butter crescent", 180],
  ["Plum cake", 1650],
] as const;

export class DatabaseLife {
  private readonly chance = new Chance(4711);

  private constructor(
    private readonly owner: string,
    readonly address: string,
    readonly user: string,
    readonly password: string,
  ) {}

  /** Makes the order book on the server that `owner` reaches. */
  static async begin(owner: string, password: string): Promise<DatabaseLife> {
    const { port } = new URL(owner);
    const life = new DatabaseLife(owner, `postgresql://127.0.0.1:${port}`, "keeper", password);
    await life.within("postgres", async (session) => {
      await session.query(`create role keeper login createdb password '${password.replaceAll("'", "''")}'`);
      await session.query(`create database ${ORDER_BOOK} owner keeper`);
      // what is the server's own is nobody's to see
      await session.query("revoke connect on database postgres from public");
    });
    await life.within(ORDER_BOOK, async (session) => {
      await session.query(`set role keeper;
        create table customers (id int primary key, name text not null, address text not null);
        create table products (id int primary key, name text not null, price_cents int not null);
        create table orders (id bigint generated always as identity primary key, customer_id int not null references customers,
          ordered_at timestamptz not null, note text);
        create table order_lines (order_id bigint not null references orders, product_id int not null references products,
          pieces int not null check (pieces > 0), primary key (order_id, product_id));
        create index orders_of_customers on orders (customer_id, ordered_at);
        create view turnover as select o.ordered_at::date as day, sum(l.pieces * p.price_cents) as cents
          from orders o join order_lines l on l.order_id = o.id join products p on p.id = l.product_id group by 1;`);
      for (const [i, [name, place]] of CUSTOMERS.entries())
        await session.query("insert into customers values ($1, $2, $3)", [i + 1, name, place]);
      for (const [i, [name, cents]] of PRODUCTS.entries())
        await session.query("insert into products values ($1, $2, $3)", [i + 1, name, cents]);
    });
    return life;
  }

  /** A day's orders, up to `noon`. */
  day = (noon: Date): Promise<void> =>
    this.within(ORDER_BOOK, async (session) => {
      for (let left = 4 + this.chance.below(5); left > 0; left -= 1) {
        const at = new Date(noon.getTime() - this.chance.below(18_000_000));
        const note = this.chance.below(4) === 0 ? "please slice" : null;
        const { rows } = await session.query<{ id: string }>(
          "insert into orders (customer_id, ordered_at, note) values ($1, $2, $3) returning id",
          [1 + this.chance.below(CUSTOMERS.length), at, note],
        );
        for (let product = 1; product <= PRODUCTS.length; product += 1)
          if (this.chance.below(2) === 0)
            await session.query("insert into order_lines values ($1, $2, $3)", [
              rows[0]!.id,
              product,
              1 + this.chance.below(40),
            ]);
      }
    });

  private async within(database: string, work: (session: pg.Client) => Promise<void>): Promise<void> {
    const url = new URL(this.owner);
    url.pathname = `/${database}`;
    const session = new pg.Client({ connectionString: url.href });
    await session.connect();
    try {
      await work(session);
    } finally {
      await session.end();
    }
  }
}
