export default function Page() { return <p>hi</p>; }
