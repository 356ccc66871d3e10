import { useMutation } from "@tanstack/react-query";
import { useState } from "react";
import { api, ask } from "../shared/api";
import { Button, Field, Trouble } from "../shared/ui";

export function SignIn({ onDone }: { onDone: () => void }) {
  const [user, setUser] = useState("engineer");
  const [password, setPassword] = useState("");
  const enter = useMutation({
    mutationFn: () => ask(api.POST("/sign-in", { body: { user, password, days: 1 } })),
    onSuccess: onDone,
  });
  return (
    <main className="flex min-h-screen items-center justify-center p-4">
      <form
        className="w-full max-w-sm space-y-4 rounded-md border border-line bg-white p-6 dark:border-nightline dark:bg-deck"
        onSubmit={(e) => {
          e.preventDefault();
          enter.mutate();
        }}
      >
        <h1 className="border-b-2 border-brass pb-2 text-lg font-bold tracking-wide">Verimorph</h1>
        <Field
          label="User"
          name="user"
          autoComplete="username"
          value={user}
          onChange={(e) => setUser(e.target.value)}
        />
        <Field
          label="Password"
          name="password"
          type="password"
          autoComplete="current-password"
          value={password}
          onChange={(e) => setPassword(e.target.value)}
        />
        <Trouble error={enter.error} />
        <Button kind="main" type="submit" disabled={enter.isPending} className="w-full">
          Sign in
        </Button>
      </form>
    </main>
  );
}
