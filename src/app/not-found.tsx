import Link from "next/link";

export default function NotFound() {
  return (
    <main className="grid min-h-[60vh] place-items-center">
      <div>
        <h1 className="mb-1 text-xl">Not found</h1>
        <p className="text-soft mb-4">It does not exist, or you do not have access to it.</p>
        <Link className="btn btn-plain" href="/">
          Back to the start
        </Link>
      </div>
    </main>
  );
}
