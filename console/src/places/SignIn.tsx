/** Sign in. */
import { Button, PasswordInput, TextInput } from "@mantine/core";
import { useState, type FormEvent, type ReactNode } from "react";
import { call, type Session } from "../api/call";
import { Problem } from "../parts/bits";

export function SignIn({ signedIn }: { signedIn: (session: Session) => void }): ReactNode {
  const [name, setName] = useState("");
  const [password, setPassword] = useState("");
  const [error, setError] = useState<Error | null>(null);
  const [busy, setBusy] = useState(false);
  const send = async (event: FormEvent): Promise<void> => {
    event.preventDefault();
    setBusy(true);
    try {
      signedIn(await call<Session>("POST", "/api/session", { name, password }));
    } catch (problem) {
      setError(problem as Error);
    } finally {
      setBusy(false);
    }
  };
  return (
    <div className="gate">
      <form className="sheet" onSubmit={(event) => void send(event)}>
        <h1>Metrikon</h1>
        <p className="soft" style={{ margin: 0 }}>
          Documents in, checked rows out.
        </p>
        {error && <Problem error={error} />}
        <TextInput label="Name" name="name" autoComplete="username" autoFocus required value={name} onChange={(event) => setName(event.currentTarget.value)} />
        <PasswordInput label="Password" name="password" autoComplete="current-password" required value={password} onChange={(event) => setPassword(event.currentTarget.value)} />
        <Button type="submit" loading={busy}>
          Sign in
        </Button>
      </form>
    </div>
  );
}
