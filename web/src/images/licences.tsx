// The service that licences are taken from.
import { useMutation, useQuery, useQueryClient } from "@tanstack/react-query";
import { useState } from "react";
import { api, ask } from "../shared/api";
import { Button, Card, Field, Form, Trouble } from "../shared/ui";

export function Licences() {
  const queries = useQueryClient();
  const service = useQuery({ queryKey: ["licence-service"], queryFn: () => ask(api.GET("/licence-service")) });
  const [setting, setSetting] = useState(false);
  return (
    <Card
      title="Licence service"
      aside={
        <Button id="set-licence-service" onClick={() => setSetting(true)}>
          Set it
        </Button>
      }
    >
      <Trouble error={service.error} />
      {service.data && (
        <p id="licence-service">
          {service.data.url ? (
            <>
              Licences are taken from <span className="font-mono">{service.data.url}</span> as {service.data.user}.
            </>
          ) : (
            "None yet. With one, a change takes the licences that it was drafted with from there."
          )}
        </p>
      )}
      <SetService
        open={setting}
        onClose={() => {
          setSetting(false);
          queries.invalidateQueries({ queryKey: ["licence-service"] });
        }}
      />
    </Card>
  );
}

function SetService({ open, onClose }: { open: boolean; onClose: () => void }) {
  const empty = { url: "", user: "", password: "" };
  const [v, setV] = useState(empty);
  const put = useMutation({
    mutationFn: () => ask(api.PUT("/licence-service", { body: v })),
    onSuccess: () => {
      setV(empty);
      onClose();
    },
  });
  const field = (key: keyof typeof empty, label: string, type = "text", hint?: string) => (
    <Field
      label={label}
      name={`licence-service-${key}`}
      type={type}
      hint={hint}
      autoComplete="off"
      value={v[key]}
      onChange={(e) => setV({ ...v, [key]: e.target.value })}
    />
  );
  return (
    <Form
      open={open}
      onClose={onClose}
      title="Set the licence service"
      action="Set"
      request={put}
      onSubmit={() => put.mutate()}
    >
      {field("url", "Address")}
      {field("user", "Contract")}
      {field("password", "Password", "password", "encrypted at once and never shown again")}
    </Form>
  );
}
