use sqlx::SqlSafeStr;
use sqlx::migrate::{Migration, MigrationType, Migrator};

/// The steps that bring tables up to date, from files of `migrations/`: number, what it is about, the SQL.
macro_rules! steps {
    ($($number:literal $about:literal;)+) => {
        &[$(($number, $about, include_str!(concat!("../migrations/", $number, "_", $about, ".sql")))),+]
    };
}

/// Each of them once, in order; one that ever ran is changed no more.
const STEPS: &[(&str, &str, &str)] = steps! {
    "0001" "revision";
    "0002" "person";
    "0003" "credential";
    "0004" "uplink";
    "0005" "journal";
    "0006" "audit";
    "0007" "gateway";
    "0008" "gateway_of_revision";
    "0009" "draft_object";
    "0010" "audit_object";
    "0011" "journal_block";
    "0012" "no_old_journal";
    "0013" "journal_index";
    "0014" "host_known";
    "0015" "command_lifetime";
    "0016" "uplink_gap";
    "0017" "lease";
    "0018" "journal_point";
    "0019" "field_memory";
    "0020" "field_event";
    "0021" "commanded_value";
    "0022" "uplink_count";
    "0023" "outage";
    "0024" "alive";
    "0025" "loop_check";
    "0026" "loop_check_item";
    "0027" "file_piece";
    "0028" "file";
    "0029" "draft_files";
    "0030" "draft_files_of_before";
    "0031" "draft_edit";
    "0032" "draft_edit_of_before";
    "0033" "no_draft_object";
};

/// Runs those that a database has not seen yet.
pub(crate) fn migrator() -> Migrator {
    let migration = |(number, about, sql): &(&str, &'static str, &'static str)| {
        let (version, kind) = (number.parse().unwrap_or_default(), MigrationType::Simple);
        Migration::new(version, (*about).into(), kind, sql.into_sql_str(), false)
    };
    Migrator::with_migrations(STEPS.iter().map(migration).collect())
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::{AuditFilter, JournalEntry, Store};
    use interlex_core::description::Draft;
    use interlex_sidecar::{Database, own_socket};

    #[test]
    fn every_file_is_a_step_with_a_number_of_its_own() {
        let folder = std::fs::read_dir(concat!(env!("CARGO_MANIFEST_DIR"), "/migrations")).unwrap();
        let mut files: Vec<_> = folder.map(|file| file.unwrap().file_name().into_string().unwrap()).collect();
        files.sort_unstable();
        let steps: Vec<_> = STEPS.iter().map(|(number, about, _)| format!("{number}_{about}.sql")).collect();
        assert_eq!(steps, files);
        let versions = migrator().iter().map(|migration| migration.version).collect::<Vec<_>>();
        assert_eq!(versions, (1..=i64::try_from(files.len()).unwrap()).collect::<Vec<_>>());
    }

    /// What a service of that time left behind is there after all later steps.
    #[tokio::test(flavor = "multi_thread")]
    async fn what_earlier_versions_have_stored_is_still_read() {
        let directory = tempfile::tempdir().unwrap();
        let mut database = Database::start(directory.path(), own_socket().unwrap()).await.unwrap();
        let store = Store::new(&database.url("interlex")).unwrap();
        let until = async |last: usize| {
            let all = migrator();
            let early = all.iter().take(last).cloned().collect();
            Migrator::with_migrations(early).run(&store.pool).await.unwrap();
        };
        let run = async |sql: &'static str| sqlx::query(sql).execute(&store.pool).await.map(drop).unwrap();
        until(6).await;
        run(r#"INSERT INTO revision VALUES ('works', 1, 'ada', 10, 'first', '{"gateway.toml":"one"}'),
                ('works', 2, 'bob', 20, '', '{"gateway.toml":"two"}'), ('office', 1, 'ada', 15, '', '{"gateway.toml":"three"}')"#)
        .await;
        run("INSERT INTO audit (at, person, source, action, detail) VALUES (10, 'ada', '::1', 'activate', 'revision 1')").await;
        run("INSERT INTO uplink (gateway, name, bd_seq) VALUES ('works', 'cloud', 7)").await;
        until(11).await;
        run("INSERT INTO journal_block (gateway, uplink, samples) VALUES ('works', 'cloud', 'abc')").await;
        until(26).await;
        // The draft of an edited gateway was all of its objects, in an order of their own.
        run("UPDATE gateway SET is_edited = TRUE WHERE name = 'office'").await;
        run(r#"INSERT INTO draft_object (gateway, class, list, name, position, content, changed_by, changed_at) VALUES
                ('office', 'link', '', 'bus', 1, '{"name":"bus"}', 'bob', 30), ('office', 'gateway', '', 'office', 0, '{"name":"office"}', '', 0),
                ('office', 'point', 'points/a.csv', 'flow', 3, '{"name":"flow"}', '', 0), ('office', 'point', 'points/a.csv', 'level', 2, '{"name":"level"}', '', 0)"#)
        .await;
        store.migrate().await.unwrap();
        let gateways = store.gateways().await.unwrap();
        let told: Vec<_> = gateways.iter().map(|known| (known.name.as_str(), known.active, known.is_edited)).collect();
        assert_eq!(told, [("office", Some(1), true), ("works", Some(2), false)]);
        let began = store.files("office", gateways[0].draft_files.unwrap()).await.unwrap().0;
        assert!(began.is_empty(), "it began with nothing");
        let edits =
            store.draft_edits("office").await.unwrap().into_iter().map(|edit| (edit.object, edit.is_new, edit.content));
        let draft = Draft::default().overlaid(edits);
        let names: Vec<_> = draft.objects().map(|(object, _)| object.name).collect();
        assert_eq!(names, ["office", "bus", "level", "flow"]);
        let revision = store.revision("works", 1).await.unwrap().unwrap();
        assert_eq!((revision.summary.note.as_str(), revision.files["gateway.toml"].as_str()), ("first", "one"));
        assert_eq!(store.active_revisions().await.unwrap().len(), 2);
        let audited = store.audit(&AuditFilter { limit: 9, ..AuditFilter::default() }).await.unwrap();
        assert_eq!((audited.len(), audited[0].detail.as_str(), audited[0].gateway.as_str()), (1, "revision 1", ""));
        assert_eq!(store.bd_seq("works", "cloud").await.unwrap(), Some(7));
        let entries = store.journal_entries("works", "cloud").await.unwrap();
        let expected = JournalEntry { id: entries[0].id, bytes: 3, count: 0, oldest_at: 0, newest_at: 0 };
        assert_eq!(entries, [expected]);
        assert_eq!(store.journal_block(entries[0].id).await.unwrap().as_deref(), Some(&b"abc"[..]));
        store.close().await;
        database.stop().await;
    }
}
