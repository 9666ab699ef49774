"""Engines that answer SQL, each with the six tables of a fleet: DuckDB, Apache Spark, DataFusion."""

import os
import sys
from pathlib import Path

FOLDER = Path(__file__).resolve().parent.parent / "packaging" / "fleet"
# With its columns told, Spark opens no file to find them, and a date stays a text.
ENTRIES = "directory STRING, name STRING, kind STRING, size BIGINT, class BIGINT, way BIGINT, inode BIGINT, target STRING, volume STRING, date STRING"
ENGINES = ["duckdb", "spark", "datafusion"]


def statements(name):
    """The statements of a file of packaging/fleet, without comments."""
    text = (FOLDER / name).read_text()
    lines = [line.split("--", 1)[0] for line in text.splitlines()]
    return [one.strip() for one in "\n".join(lines).split(";") if one.strip()]


def questions():
    """The files that are questions."""
    return sorted(path.name for path in FOLDER.glob("*.sql") if path.name != "views.sql")


class DuckDb:
    def __init__(self, dataset, verdicts, threads=None):
        import duckdb

        self.connection = duckdb.connect()
        if threads:
            self.connection.execute(f"SET threads = {threads}")
        tables = {
            "entries": f"read_parquet('{dataset}/entries/*/*/*.parquet', hive_partitioning = true)",
            **{name: f"read_parquet('{dataset}/{name}/*.parquet')" for name in ("classes", "ways")},
            **{name: f"read_parquet('{verdicts}/{name}/*.parquet')" for name in ("actors", "verdicts", "regions")},
        }
        for name, files in tables.items():
            distinct = "DISTINCT " if name in ("classes", "ways") else ""
            self.connection.execute(f"CREATE VIEW {name} AS SELECT {distinct}* FROM {files}")

    def run(self, sql):
        return self.connection.execute(sql)

    def rows(self, sql):
        return self.connection.execute(sql).fetchall()

    def close(self):
        self.connection.close()


class Spark:
    def __init__(self, dataset, verdicts, threads=None, master=None):
        from pyspark.sql import SparkSession

        builder = SparkSession.builder.master(master or f"local[{threads or 2}]").appName("fleet")
        for key, value in {
            "spark.ui.enabled": "false",
            "spark.ui.showConsoleProgress": "false",
            "spark.sql.shuffle.partitions": "4",
            "spark.driver.host": "127.0.0.1",
            "spark.driver.bindAddress": "127.0.0.1",
            "spark.sql.warehouse.dir": os.path.join(os.path.dirname(os.path.abspath(verdicts)), "warehouse"),
        }.items():
            builder = builder.config(key, value)
        self.session = builder.getOrCreate()
        self.session.sparkContext.setLogLevel("ERROR")
        self.session.sql(f"CREATE TABLE entries ({ENTRIES}) USING parquet OPTIONS (path '{dataset}/entries') PARTITIONED BY (volume, date)")
        self.session.sql("MSCK REPAIR TABLE entries")
        places = {name: f"{dataset}/{name}" for name in ("classes", "ways")}
        places.update({name: f"{verdicts}/{name}" for name in ("actors", "verdicts", "regions")})
        for name, place in places.items():
            plain = name if name not in ("classes", "ways") else f"every_{name}"
            self.session.sql(f"CREATE TABLE {plain} USING parquet OPTIONS (path '{place}')")
            if plain != name:
                self.session.sql(f"CREATE VIEW {name} AS SELECT DISTINCT * FROM {plain}")

    def run(self, sql):
        return self.session.sql(sql)

    def rows(self, sql):
        return [tuple(row) for row in self.session.sql(sql).collect()]

    def close(self):
        self.session.stop()


class DataFusion:
    def __init__(self, dataset, verdicts, threads=None):
        import datafusion

        config = datafusion.SessionConfig()
        if threads:
            config = config.with_target_partitions(threads)
        self.context = datafusion.SessionContext(config)
        places = {name: f"{dataset}/{name}/" for name in ("classes", "ways")}
        places.update({name: f"{verdicts}/{name}/" for name in ("actors", "verdicts", "regions")})
        self.context.sql(
            f"CREATE EXTERNAL TABLE entries STORED AS PARQUET PARTITIONED BY (volume, date) LOCATION '{dataset}/entries/'"
        )
        for name, place in places.items():
            plain = name if name not in ("classes", "ways") else f"every_{name}"
            self.context.sql(f"CREATE EXTERNAL TABLE {plain} STORED AS PARQUET LOCATION '{place}'")
            if plain != name:
                self.context.sql(f"CREATE VIEW {name} AS SELECT DISTINCT * FROM {plain}")

    def run(self, sql):
        return self.context.sql(sql).collect()

    def rows(self, sql):
        return [tuple(row.values()) for batch in self.run(sql) for row in batch.to_pylist()]

    def close(self):
        pass


def engine(name, *args, **more):
    """One that is ready: tables and views are there."""
    kind = {"duckdb": DuckDb, "spark": Spark, "datafusion": DataFusion}[name]
    ready = kind(*args, **more)
    for statement in statements("views.sql"):
        ready.run(statement)
    return ready


def ask(ready, below, readers):
    """Asks who reads what below a path, and for secrets of more readers than that, in the place of what views.sql asks for."""
    ready.run(f"CREATE OR REPLACE VIEW asked AS SELECT '{below}' AS below, {readers} AS readers, '0000-00-00' AS first_day, '9999-99-99' AS last_day")


def missing(name):
    """Why an engine cannot be used here; None where it can."""
    try:
        __import__({"duckdb": "duckdb", "spark": "pyspark", "datafusion": "datafusion"}[name])
    except ImportError as error:
        return str(error)
    if name == "spark":
        import shutil

        return None if shutil.which("java") else "there is no java"
    return None


if __name__ == "__main__":
    sys.exit("this is a part of fleet-agreement and bench-fleet")
