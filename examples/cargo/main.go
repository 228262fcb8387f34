package main

import (
	"context"

	_ "github.com/gin-gonic/gin"
	_ "github.com/golang/protobuf/ptypes"
	_ "github.com/grpc-ecosystem/grpc-gateway/v2/runtime"
	_ "github.com/jackc/pgx/v4"
	_ "github.com/prometheus/client_golang/prometheus/promhttp"
	_ "github.com/redis/go-redis/v9"
	_ "go.opentelemetry.io/contrib/instrumentation/google.golang.org/grpc/otelgrpc"
	"go.opentelemetry.io/otel"
	"go.opentelemetry.io/otel/exporters/otlp/otlptrace/otlptracegrpc"
	"go.opentelemetry.io/otel/sdk/trace"
	"go.uber.org/zap"
	_ "google.golang.org/genproto/googleapis/api/annotations"
	"google.golang.org/grpc"
	"google.golang.org/protobuf/proto"
)

func main() {
	exporter, err := otlptracegrpc.New(context.Background())
	if err != nil {
		zap.NewExample().Fatal("no exporter", zap.Error(err))
	}
	otel.SetTracerProvider(trace.NewTracerProvider(trace.WithBatcher(exporter)))
	grpc.NewServer().Stop()
	_ = proto.Message(nil)
}
